package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"

	"unitas/api/contract"
	"unitas/internal/catalogue"
	"unitas/internal/datadir"
	"unitas/internal/fleet"
	"unitas/internal/image"
	"unitas/internal/store"
)

// problem is an error that is answered as RFC 9457 problem details.
type problem struct {
	status int
	kind   string // the end of the stable type
	detail string
	fields []fieldFault
}

type fieldFault struct{ pointer, detail string }

func (p *problem) Error() string { return p.detail }

func (p *problem) body() contract.Problem {
	out := contract.Problem{Type: "urn:unitas:problem:" + p.kind, Title: titles[p.kind], Status: p.status}
	if p.detail != "" {
		out.Detail = &p.detail
	}
	fields := p.fields
	if len(fields) == 0 && p.status < 500 {
		fields = []fieldFault{{"", p.detail}} // the whole of the request
	}
	if len(fields) > 0 {
		told := each(fields, func(f fieldFault) contract.Fault { return contract.Fault{Pointer: f.pointer, Detail: f.detail} })
		out.Errors = &told
	}
	return out
}

var titles = map[string]string{
	"invalid":               "The request is not valid",
	"not-found":             "There is no such thing",
	"exists":                "It exists already",
	"stale":                 "It changed meanwhile",
	"in-use":                "It is in use",
	"conflict":              "It is not possible now",
	"unauthorized":          "The bearer token is missing or wrong",
	"precondition-required": "The change does not say what it was made against",
	"unavailable":           "The database does not answer",
	"disk-full":             "The disk is full",
	"switched-off":          "This is switched off",
	"too-long":              "The request took too long",
	"too-slow":              "The request came too slowly",
	"busy":                  "Too much of this is under way",
	"internal":              "The service failed",
}

// toProblem is the problem that an error is, or nil.
func toProblem(err error) *problem {
	var p *problem
	errors.As(err, &p)
	return p
}

func invalid(pointer, format string, args ...any) *problem {
	text := fmt.Sprintf(format, args...)
	return &problem{status: http.StatusUnprocessableEntity, kind: "invalid", detail: text, fields: []fieldFault{{pointer, text}}}
}

// invalidFields names all that is wrong with a request at once.
func invalidFields(faults []fieldFault) *problem {
	texts := make([]string, len(faults))
	for i, f := range faults {
		if texts[i] = f.detail; strings.Trim(f.pointer, "/") != "" {
			texts[i] = strings.TrimPrefix(f.pointer, "/") + ": " + f.detail
		}
	}
	return &problem{status: http.StatusUnprocessableEntity, kind: "invalid", detail: strings.Join(texts, "; "), fields: faults}
}

func notFound(what, name string) *problem {
	return &problem{status: http.StatusNotFound, kind: "not-found", detail: fmt.Sprintf("There is no %s %s.", what, name)}
}

// about turns what the store and the core refuse into problems; what names the
// object of the request in words.
func about(what, name string, err error) error {
	var refusal *fleet.Refusal
	var archive *image.Refused
	var inUse *store.InUse
	var busy *catalogue.Busy
	switch {
	case err == nil:
		return nil
	case errors.As(err, &refusal) && refusal.Field != "":
		fields := []fieldFault{{"/" + refusal.Field, refusal.Text}}
		for _, also := range refusal.Also {
			fields = append(fields, fieldFault{"/" + also.Field, also.Text})
		}
		return invalidFields(fields)
	case errors.As(err, &refusal):
		return &problem{status: http.StatusConflict, kind: "conflict", detail: refusal.Text}
	case errors.As(err, &inUse):
		return &problem{status: http.StatusConflict, kind: "in-use", detail: sentenceOf(inUse.Error())}
	case errors.As(err, &busy):
		return &problem{status: http.StatusTooManyRequests, kind: "busy", detail: sentenceOf(busy.Error())}
	case errors.As(err, &archive):
		return invalid("", "The image is refused: %s.", archive)
	case errors.Is(err, store.ErrNotFound):
		return notFound(what, name)
	case errors.Is(err, store.ErrExists):
		return &problem{status: http.StatusConflict, kind: "exists", detail: fmt.Sprintf("There is a %s %s already.", what, name)}
	case errors.Is(err, store.ErrStale):
		return &problem{status: http.StatusPreconditionFailed, kind: "stale",
			detail: fmt.Sprintf("The %s %s changed since it was read. Read it again, and repeat the change if it is still right.", what, name)}
	}
	return err
}

// ofStore is what an error of the database or a disk is answered with; nil for what is
// neither.
func ofStore(err error) *problem {
	switch store.FaultOf(err) {
	case store.Unreachable:
		return &problem{status: http.StatusServiceUnavailable, kind: "unavailable",
			detail: "The database does not answer at the moment. Groups go on serving; try again in a few seconds."}
	case store.DiskFull:
		return &problem{status: http.StatusInsufficientStorage, kind: "disk-full",
			detail: "The disk is full, so nothing can be written. Groups go on serving; make room, and the service goes on by itself."}
	case store.BadValue:
		return &problem{status: http.StatusUnprocessableEntity, kind: "invalid",
			detail: "A value of the request cannot be kept: a number is too large, or a text has characters that no text may have."}
	}
	return nil
}

// sentenceOf begins a text with a capital and ends it with a full stop.
func sentenceOf(text string) string {
	return strings.ToUpper(text[:1]) + text[1:] + "."
}

// answerError is the one place where errors become answers.
func answerError(log *slog.Logger) echo.HTTPErrorHandler {
	return func(c *echo.Context, err error) {
		var p *problem
		var he *echo.HTTPError
		var coded echo.HTTPStatusCoder
		var full *datadir.Full
		switch {
		case errors.As(err, &p):
		case errors.As(err, &he):
			p = fromEcho(he.Code, he.Message)
		case errors.As(err, &full):
			p = &problem{status: http.StatusInsufficientStorage, kind: "disk-full", detail: sentenceOf(full.Error())}
		case errors.As(err, &coded):
			p = fromEcho(coded.StatusCode(), "")
		default:
			p = ofStore(err)
		}
		if p == nil {
			p = &problem{status: http.StatusInternalServerError, kind: "internal", detail: "The service failed at this request; its log says more."}
		}
		if p.status >= 500 && c.Request().Context().Err() == nil {
			log.Error("a request failed", "method", c.Request().Method, "path", c.Request().URL.Path, "error", err)
		}
		if r, _ := echo.UnwrapResponse(c.Response()); r != nil && r.Committed {
			return
		}
		writeProblem(c.Response(), p)
	}
}

func writeProblem(w http.ResponseWriter, p *problem) {
	w.Header().Set("Content-Type", "application/problem+json")
	if p.status == http.StatusTooManyRequests {
		w.Header().Set("Retry-After", "5")
	}
	if p.status == http.StatusUnauthorized {
		w.Header().Set("WWW-Authenticate", `Bearer realm="unitas"`)
	}
	w.WriteHeader(p.status)
	_ = json.NewEncoder(w).Encode(p.body())
}

func fromEcho(status int, message string) *problem {
	p := &problem{status: status, kind: "invalid", detail: message}
	parameter, why, ofParameter := strings.Cut(strings.TrimPrefix(message, "Invalid format for parameter "), ":")
	switch {
	case ofParameter && len(why) < len(message)-len(parameter)-1:
		return invalid(parameter, "cannot be read as it is; what it may be is in /openapi.json")
	case status == http.StatusNotFound:
		p.kind, p.detail = "not-found", "There is nothing at this path; the paths are in /openapi.json."
	case status == http.StatusMethodNotAllowed:
		p.detail = "This path does not take this method."
	case status >= 500:
		p.kind = "internal"
	}
	return p
}
