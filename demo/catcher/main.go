// Command catcher is a mail server for trying out notices: it keeps each mail as a file and
// passes nothing on.
package main

import (
	"flag"
	"fmt"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"

	"unitas/internal/mailcatch"
)

func main() {
	listen := flag.String("listen", "127.0.0.1:2525", "the `ADDRESS:PORT` to take mail on")
	dir := flag.String("dir", "mail", "the `DIRECTORY` for the mails")
	flag.Parse()
	if err := run(*listen, *dir); err != nil {
		fmt.Fprintln(os.Stderr, "catcher:", err)
		os.Exit(1)
	}
}

func run(listen, dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return err
	}
	var n atomic.Int64
	c := mailcatch.Listen(l, func(m mailcatch.Mail) {
		name := filepath.Join(dir, fmt.Sprintf("%04d.eml", n.Add(1)))
		if err := os.WriteFile(name, []byte(m.Raw), 0o600); err != nil {
			fmt.Fprintln(os.Stderr, "catcher:", err)
			return
		}
		fmt.Printf("%s  from %s to %s\n", name, m.From, strings.Join(m.To, ", "))
	})
	defer c.Close()
	fmt.Println("mail is taken on", listen)
	stop := make(chan os.Signal, 1)
	signal.Notify(stop, os.Interrupt, syscall.SIGTERM)
	<-stop
	return nil
}
