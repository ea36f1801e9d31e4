package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strconv"
	"time"

	"unitas/api/contract"
	"unitas/internal/api/routes"
	"unitas/internal/fleet"
	"unitas/internal/fleet/words"
	"unitas/internal/notice"
	"unitas/internal/store"
)

// messagesShown is how many messages of a notice are listed.
const messagesShown = 100

func fromNotice(n store.Notice) contract.Notice {
	return contract.Notice{Name: n.Name, Topics: each(n.Topics, func(t string) contract.Topic { return contract.Topic(t) }), Groups: append([]string{}, n.Groups...), Send: n.Send,
		Mail: append([]string{}, n.Mail...), GatherSeconds: secondsOf(n.Gather), Off: n.Off, Headers: slices.Sorted(maps.Keys(n.Headers)), FailingAt: optional(n.FailingAt), FailingWhy: text(n.FailingWhy), Revision: n.Revision, CreatedAt: n.CreatedAt, CreatedBy: n.CreatedBy}
}

func topicNames(topics []contract.Topic) (all []string) {
	for _, t := range topics {
		if !slices.Contains(all, string(t)) {
			all = append(all, string(t))
		}
	}
	return all
}

// checkNotice reports where nothing can be sent to, and groups that there are not.
func (s *Server) checkNotice(ctx context.Context, n store.Notice, secret string) error {
	switch {
	case n.Send == "" && len(n.Mail) == 0:
		return invalid("/send", "say where to: an address that signed messages go to (send), or addresses of mail (mail)")
	case n.Send != "" && len(n.Mail) > 0:
		return invalid("/mail", "a notice goes either to one address by message or to people by mail; make two")
	case n.Send == "" && secret != "":
		return invalid("/secret", "mail is not signed; leave the secret out")
	}
	if n.Send != "" {
		if u, err := url.Parse(n.Send); err != nil || (u.Scheme != "http" && u.Scheme != "https") || u.Host == "" {
			return invalid("/send", "%q is nowhere to send to; give an http or https address", words.Plain(n.Send, 200))
		}
	}
	if u, err := url.Parse(n.Send); err == nil && u.User != nil {
		return invalid("/send", "%s has a name or a password in it, which lists and logs would show; leave it out and give a header with it instead (--header Authorization=@FILE)", words.Plain(u.Redacted(), 200))
	}
	if n.Send == "" && len(n.Headers) > 0 {
		return invalid("/headers", "mail has no headers of one's own; leave them out")
	}
	for name, value := range n.Headers {
		if err := notice.CheckHeader(name, value); err != nil {
			return invalid("/headers/"+name, "%s", err)
		}
	}
	if secret != "" {
		if err := notice.CheckSecret(secret); err != nil {
			return invalid("/secret", "%s", err)
		}
	}
	for k, to := range n.Mail {
		if err := notice.CheckAddress(to); err != nil {
			return invalid(fmt.Sprintf("/mail/%d", k), "%s", err)
		}
	}
	if len(n.Mail) > 0 && s.Control.Mailer == nil {
		return invalid("/mail", "this service knows no mail server; start it with --mail-server smtp://HOST:PORT")
	}
	for k, g := range n.Groups {
		if _, err := s.Store.Group(ctx, g); errors.Is(err, store.ErrNotFound) {
			return invalid(fmt.Sprintf("/groups/%d", k), "there is no group %s", words.Plain(g, 80))
		} else if err != nil {
			return err
		}
	}
	return nil
}

// ListNotices lists who hears of what.
func (s *Server) ListNotices(ctx context.Context, _ routes.ListNoticesRequestObject) (routes.ListNoticesResponseObject, error) {
	all, err := s.Store.Notices(ctx)
	return routes.ListNotices200JSONResponse{Items: each(all, fromNotice)}, err
}

// AddNotice has somebody hear of what happens from now on.
func (s *Server) AddNotice(ctx context.Context, r routes.AddNoticeRequestObject) (routes.AddNoticeResponseObject, error) {
	b := r.Body
	n := store.Notice{Name: b.Name, Topics: topicNames(b.Topics), Groups: given(b.Groups), Send: some(b.Send, ""), Mail: given(b.Mail), Gather: givenFor(b.GatherSeconds), Off: given(b.Off), Headers: some(b.Headers, nil)}
	secret := some(b.Secret, "")
	if err := s.checkNotice(ctx, n, secret); err != nil {
		return nil, err
	}
	if secret == "" && n.Send != "" {
		secret = notice.NewSecret()
	}
	err := s.Store.AddNotice(ctx, s.now(), actor(ctx), n, secret)
	if errors.Is(err, store.ErrTooMany) {
		return nil, &problem{status: 409, kind: "conflict", detail: fmt.Sprintf("There are %d notices, as many as there may be; remove one first.", store.MostNotices)}
	}
	if err != nil {
		return nil, about("notice", b.Name, err)
	}
	if given(r.Params.DryRun) {
		return routes.AddNotice200JSONResponse(fromNotice(n)), nil
	}
	made, err := s.Store.Notice(ctx, b.Name)
	return routes.AddNotice201JSONResponse(fromNotice(made)), err
}

// GetNotice reads one.
func (s *Server) GetNotice(ctx context.Context, r routes.GetNoticeRequestObject) (routes.GetNoticeResponseObject, error) {
	n, err := s.Store.Notice(ctx, r.Name)
	if err != nil {
		return nil, about("notice", r.Name, err)
	}
	return routes.GetNotice200JSONResponse{Body: fromNotice(n), Headers: routes.GetNotice200ResponseHeaders{ETag: etag(n.Revision)}}, nil
}

// ChangeNotice changes settings.
func (s *Server) ChangeNotice(ctx context.Context, r routes.ChangeNoticeRequestObject) (routes.ChangeNoticeResponseObject, error) {
	revision, err := ifMatch(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	n, err := s.Store.Notice(ctx, r.Name)
	if err != nil {
		return nil, about("notice", r.Name, err)
	}
	b := r.Body
	if b.Headers != nil {
		n.Headers = *b.Headers
	} else if b.Send != nil && *b.Send != n.Send { // no other address is sent the secrets of this one
		n.Headers = nil
	}
	if b.Topics != nil {
		n.Topics = topicNames(*b.Topics)
	}
	if b.Send != nil && *b.Send != "" && b.Mail == nil {
		n.Mail = nil
	}
	if b.Mail != nil && len(*b.Mail) > 0 && b.Send == nil {
		n.Send = ""
	}
	n.Groups, n.Send, n.Mail, n.Gather, n.Off = some(b.Groups, n.Groups), some(b.Send, n.Send), some(b.Mail, n.Mail), durationOf(b.GatherSeconds, n.Gather), some(b.Off, n.Off)
	secret := some(b.Secret, "")
	if err := s.checkNotice(ctx, n, secret); err != nil {
		return nil, err
	}
	if had, err := s.Store.NoticeSecret(ctx, r.Name); err == nil && had == "" && n.Send != "" && secret == "" {
		secret = notice.NewSecret()
	}
	if err := s.Store.ChangeNotice(ctx, s.now(), actor(ctx), n, revision, secret); err != nil {
		return nil, about("notice", r.Name, err)
	}
	if given(r.Params.DryRun) {
		return routes.ChangeNotice200JSONResponse(fromNotice(n)), nil
	}
	n, err = s.Store.Notice(ctx, r.Name)
	return routes.ChangeNotice200JSONResponse(fromNotice(n)), err
}

// RemoveNotice tells nobody any more.
func (s *Server) RemoveNotice(ctx context.Context, r routes.RemoveNoticeRequestObject) (routes.RemoveNoticeResponseObject, error) {
	revision, err := ifMatch(r.Params.IfMatch)
	if err != nil {
		return nil, err
	}
	if err := s.Store.DeleteNotice(ctx, s.now(), actor(ctx), r.Name, revision); err != nil {
		return nil, about("notice", r.Name, err)
	}
	return routes.RemoveNotice204Response{}, nil
}

// GetNoticeSecret shows what messages are signed with.
func (s *Server) GetNoticeSecret(ctx context.Context, r routes.GetNoticeSecretRequestObject) (routes.GetNoticeSecretResponseObject, error) {
	secret, err := s.Store.NoticeSecret(ctx, r.Name)
	if err != nil {
		return nil, about("notice", r.Name, err)
	}
	if secret == "" {
		return nil, &problem{status: 409, kind: "conflict", detail: fmt.Sprintf("The notice %s goes by mail, which is not signed.", r.Name)}
	}
	return routes.GetNoticeSecret200JSONResponse{Secret: secret}, s.Store.Record(context.WithoutCancel(ctx), s.now(), actor(ctx), "",
		fleet.Entry{Kind: "notice.secret-read", Text: fmt.Sprintf("The secret of the notice %s was read.", r.Name), Cause: fleet.Asked("")})
}

func fromMessage(m store.Message) contract.Message {
	c := notice.Content{Notice: m.Notice}
	_ = json.Unmarshal(m.Content, &c.Lines)
	c.Test = len(c.Lines) == 0
	out := contract.Message{Number: m.Number, At: m.At.UTC(), Subject: c.Subject(), Lines: len(c.Lines), State: contract.MessageState(m.State), Tries: m.Tries, TookMs: float64(m.TookMs), Status: m.Status, Response: m.CameBack, SentBy: m.SentBy}
	if m.TriedAt != nil {
		out.TriedAt = ptr(m.TriedAt.UTC())
	}
	if m.State == "waiting" {
		out.NextAt = ptr(m.NextAt.UTC().Truncate(time.Millisecond))
	}
	return out
}

// ListMessages lists what was and is to be sent.
func (s *Server) ListMessages(ctx context.Context, r routes.ListMessagesRequestObject) (routes.ListMessagesResponseObject, error) {
	if _, err := s.Store.Notice(ctx, r.Name); err != nil {
		return nil, about("notice", r.Name, err)
	}
	all, err := s.Store.Messages(ctx, r.Name, messagesShown)
	return routes.ListMessages200JSONResponse{Items: each(all, fromMessage)}, err
}

// SendMessage sends a test, or a message once more.
func (s *Server) SendMessage(ctx context.Context, r routes.SendMessageRequestObject) (routes.SendMessageResponseObject, error) {
	if _, err := s.Store.Notice(ctx, r.Name); err != nil {
		return nil, about("notice", r.Name, err)
	}
	number := some(r.Body.Again, 0)
	m, err := s.Control.SendNow(ctx, actor(ctx), r.Name, number)
	if err != nil {
		return nil, about("message of the notice "+r.Name, strconv.FormatInt(number, 10), err)
	}
	return routes.SendMessage200JSONResponse(fromMessage(m)), nil
}
