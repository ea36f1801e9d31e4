package fleet

import (
	"fmt"
	"net/url"
	"slices"
	"time"

	"unitas/internal/fleet/words"
)

// HookPoint is where in its life a hook holds an instance.
type HookPoint string

// The points: after boot, before it may serve; and after its drain, before its machine
// stops.
const (
	AtLaunch HookPoint = "launch"
	AtRetire HookPoint = "retire"
)

// Answer is what is said to a ticket.
type Answer string

// The answers.
const (
	Pass Answer = "pass"
	Fail Answer = "fail"
)

// Hook holds each instance of a group at one point until somebody answers.
type Hook struct {
	Name string    `json:"name"`
	At   HookPoint `json:"at"`
	// Deadline is how long an answer may take, and Bound how long with all extensions.
	Deadline    time.Duration `json:"deadline"`
	MaxDeadline time.Duration `json:"bound"`
	// Otherwise counts when nobody answers in time.
	Otherwise Answer `json:"otherwise"`
	// Send is the address of a webhook that hears of each ticket, and Run a command in the
	// instance whose exit status answers; with neither somebody looks by himself.
	Send string   `json:"send,omitempty"`
	Run  []string `json:"run,omitempty"`
}

// Bounds of hooks.
const (
	MaxHooks     = 8
	MaxHookBound = 72 * time.Hour
	maxHookRun   = 4 << 10
	maxHookSend  = 2 << 10
)

// validate reports what cannot be, with the field.
func (h *Hook) validate() (field string, err error) {
	switch {
	case !words.IsName(h.Name):
		return "name", fmt.Errorf("%q is not a name: %s", h.Name, words.NamingRule)
	case h.At != AtLaunch && h.At != AtRetire:
		return "at", fmt.Errorf("at is %q; give launch or retire", h.At)
	case h.Otherwise != Pass && h.Otherwise != Fail:
		return "otherwise", fmt.Errorf("otherwise is %q; give pass or fail", h.Otherwise)
	case h.Deadline < time.Second || h.Deadline > MaxHookBound:
		return "deadline", fmt.Errorf("the deadline is %s; give 1 s to %s", words.Span(h.Deadline), words.Span(MaxHookBound))
	case h.MaxDeadline < h.Deadline || h.MaxDeadline > MaxHookBound:
		return "max_deadline", fmt.Errorf("max-deadline is %s; give the deadline, %s, to %s", words.Span(h.MaxDeadline), words.Span(h.Deadline), words.Span(MaxHookBound))
	case h.Send != "" && len(h.Run) > 0:
		return "run", fmt.Errorf("both send and run are given; give one of them")
	}
	long := 0
	for _, word := range h.Run {
		long += len(word) + 1
	}
	if long > maxHookRun || (len(h.Run) > 0 && h.Run[0] == "") {
		return "run", fmt.Errorf("the command is empty or longer than %d bytes", maxHookRun)
	}
	if h.Send != "" {
		u, err := url.Parse(h.Send)
		if err != nil || len(h.Send) > maxHookSend || (u.Scheme != "http" && u.Scheme != "https") || u.Host == "" || u.User != nil {
			return "send", fmt.Errorf("%q is no address to send to; give http:// or https://, a host, and no password", words.Plain(h.Send, 80))
		}
	}
	return "", nil
}

// validateHooks reports hooks that cannot be.
func (g *Group) validateHooks() *Refusal {
	if len(g.Hooks) > MaxHooks {
		return refuse("hooks", "there are %d hooks; give %d at most", len(g.Hooks), MaxHooks)
	}
	for k := range g.Hooks {
		h := &g.Hooks[k]
		if field, err := h.validate(); err != nil {
			return refuse(field, "%s", err)
		}
		if g.Hook(h.Name) != h {
			return refuse("name", "the group %s has a hook %s already; give another name", g.Name, h.Name)
		}
	}
	return nil
}

// Hook is the hook of the name, nil when there is none.
func (g *Group) Hook(name string) *Hook {
	k := slices.IndexFunc(g.Hooks, func(h Hook) bool { return h.Name == name })
	if k < 0 {
		return nil
	}
	return &g.Hooks[k]
}

func (g *Group) hasHooks(at HookPoint) bool {
	return slices.ContainsFunc(g.Hooks, func(h Hook) bool { return h.At == at })
}

// WithHook returns the group with one more hook, or with one of the name instead.
func (g Group) WithHook(h Hook, instead bool, reason string) (Group, Entry, error) {
	if instead && g.Hook(h.Name) == nil {
		return g, Entry{}, refuse("name", "the group %s has no hook %s", g.Name, h.Name)
	}
	return g.Change(func(g *Group) {
		g.Hooks = slices.Clone(g.Hooks)
		if instead {
			*g.Hook(h.Name) = h
		} else {
			g.Hooks = append(g.Hooks, h)
		}
	}, reason)
}

// WithoutHook returns the group without a hook: whoever it holds is held no more.
func (g Group) WithoutHook(name, reason string) (Group, Entry, error) {
	if g.Hook(name) == nil {
		return g, Entry{}, refuse("name", "the group %s has no hook %s", g.Name, name)
	}
	take := func(g *Group) {
		g.Hooks = slices.DeleteFunc(slices.Clone(g.Hooks), func(h Hook) bool { return h.Name == name })
	}
	if g.Deleting { // what goes need not wait for whom nobody asks any more
		take(&g)
		return g, Entry{Kind: "group.changed", Text: fmt.Sprintf("The group %s, which is being deleted, waits for its hook %s no more.", g.Name, name), Cause: Asked(reason)}, nil
	}
	return g.Change(take, reason)
}

// String says all of a hook in one line.
func (h Hook) String() string {
	text := fmt.Sprintf("%s at %s, deadline %s, at most %s, otherwise %s", h.Name, h.At, words.Span(h.Deadline), words.Span(h.MaxDeadline), h.Otherwise)
	switch {
	case h.Send != "":
		text += ", sends to " + h.Send
	case len(h.Run) > 0:
		text += fmt.Sprintf(", runs %q", h.Run)
	}
	return text
}
