// Command receiver is the sample receiver of hook messages: it has each new instance of the
// timetable fill its cache before passengers come, and answers with how much is in it. It is
// written as any receiver may be, from the two open specifications alone.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"syscall"
	"time"

	webhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
)

// Limits of what comes in and of what is asked of an instance.
const (
	maxMessage = 64 << 10
	maxAnswer  = 4 << 10
	warmLimit  = 8 * time.Second
)

func main() {
	listen := flag.String("listen", "127.0.0.1:8099", "the address to listen on")
	secret := flag.String("secret", "", "the file with the secret that messages are signed with; it is read for each message")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM, os.Interrupt)
	defer stop()
	server := &http.Server{Addr: *listen, Handler: receiver{secret: *secret}, ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 10 * time.Second}
	go func() {
		<-ctx.Done()
		_ = server.Shutdown(context.Background())
	}()
	fmt.Println("receiver: listening on", *listen)
	if err := server.ListenAndServe(); err != nil && !errors.Is(err, http.ErrServerClosed) {
		fmt.Fprintln(os.Stderr, "receiver:", err)
		os.Exit(1)
	}
}

type receiver struct{ secret string }

// message is what is read of a message: a CloudEvent about one ticket.
type message struct {
	Type string `json:"type"`
	Data struct {
		Instance string `json:"instance"`
		Address  string `json:"address"`
		Port     int    `json:"port"`
	} `json:"data"`
}

func (h receiver) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxMessage))
	if err != nil {
		http.Error(w, "the message could not be read", http.StatusBadRequest)
		return
	}
	if err := h.verify(r.Header, body); err != nil {
		fmt.Println("receiver: refused:", err)
		http.Error(w, "the signature is not ours", http.StatusUnauthorized)
		return
	}
	var m message
	if err := json.Unmarshal(body, &m); err != nil {
		http.Error(w, "the message is no event", http.StatusBadRequest)
		return
	}
	answer, note := "pass", "a sample: nothing was warmed"
	if m.Type != "unitas.ticket.sample" {
		if note, err = warm(r.Context(), net.JoinHostPort(m.Data.Address, strconv.Itoa(m.Data.Port))); err != nil {
			answer, note = "fail", err.Error()
		}
	}
	fmt.Printf("receiver: %s of %s: %s, %s\n", m.Type, m.Data.Instance, answer, note)
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(map[string]string{"answer": answer, "note": note})
}

func (h receiver) verify(header http.Header, body []byte) error {
	raw, err := os.ReadFile(h.secret)
	if err != nil {
		return err
	}
	signer, err := webhooks.NewWebhook(strings.TrimSpace(string(raw)))
	if err != nil {
		return err
	}
	return signer.Verify(body, header)
}

// warm has an instance fill its cache. A machine that has just booted may not listen yet.
func warm(ctx context.Context, address string) (note string, err error) {
	ctx, cancel := context.WithTimeout(ctx, warmLimit)
	defer cancel()
	for {
		note, err = ask(ctx, address)
		if !errors.Is(err, syscall.ECONNREFUSED) {
			return note, err
		}
		select {
		case <-ctx.Done():
			return "", fmt.Errorf("nothing listens on %s", address)
		case <-time.After(50 * time.Millisecond):
		}
	}
}

func ask(ctx context.Context, address string) (string, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://"+address+"/cache", nil)
	if err != nil {
		return "", err
	}
	answer, err := http.DefaultClient.Do(r)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(answer.Body, maxAnswer))
	if err == nil && answer.StatusCode != http.StatusOK {
		err = fmt.Errorf("the instance answered %s: %s", answer.Status, strings.TrimSpace(string(raw)))
	}
	return strings.TrimSpace(string(raw)), err
}
