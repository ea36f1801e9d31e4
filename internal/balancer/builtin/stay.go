package builtin

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"math"
	"net/http"
	"slices"
	"strings"
	"time"

	"unitas/internal/fleet/traffic"
)

// hashOf is FNV-1a, mixed so that near texts are far apart. It is the same in every process:
// replicas agree on where a caller stays.
func hashOf(text string) uint64 {
	h := uint64(14695981039346656037)
	for i := range len(text) {
		h = (h ^ uint64(text[i])) * 1099511628211
	}
	return mix(h)
}

// mix is the finalizer of MurmurHash3.
func mix(h uint64) uint64 {
	h ^= h >> 33
	h *= 0xff51afd7ed558ccd
	h ^= h >> 33
	h *= 0xc4ceb9fe1a85ec53
	return h ^ h>>33
}

// cookieOf is the name of a pool's cookie.
func cookieOf(pool string) string { return "unitas-stay-" + pool }

// signed is a cookie that says where a caller stays. Nobody else can make one.
func (p *pool) signed(instance string) string {
	mac := hmac.New(sha256.New, p.key)
	mac.Write([]byte(p.name + "\x00" + instance))
	return instance + "." + base64.RawURLEncoding.EncodeToString(mac.Sum(nil)[:16])
}

// stays is the target of a caller who was here before, nil when there is none that takes
// requests. fresh is set when a cookie is to tell where it is from now on.
func (p *pool) stays(l *lane, c *choice, who caller) (t *target, fresh bool) {
	switch s := &l.spoken.Affinity; s.By {
	case traffic.ByCookie:
		for _, cookie := range who.header["Cookie"] {
			if t := p.byCookie(cookie); t != nil && t.isOpen() && !t.isAside(time.Now()) && !slices.Contains(c.tried, t) && c.take(t, false) {
				return t, false
			}
		}
		return nil, true
	case traffic.ByHeader:
		if values := who.header[s.Header]; len(values) > 0 {
			return l.byHash(c, hashOf(values[0])), false
		}
	case traffic.ByAddress:
		return l.byHash(c, hashOf(who.address)), false
	}
	return nil, false
}

// caller is what a caller is known again by.
type caller struct {
	address string
	header  http.Header
}

// byCookie is the target that one of the cookies names.
func (p *pool) byCookie(cookies string) *target {
	name := cookieOf(p.name)
	for one := range strings.SplitSeq(cookies, ";") {
		key, value, _ := strings.Cut(strings.TrimSpace(one), "=")
		if key != name {
			continue
		}
		instance, _, ok := strings.Cut(value, ".")
		if !ok || !hmac.Equal([]byte(value), []byte(p.signed(instance))) {
			continue
		}
		if all := (*p.byInstance.Load())[instance]; len(all) > 0 {
			return all[0]
		}
	}
	return nil
}

// setCookie tells a caller where it stays.
func (p *pool) setCookie(h http.Header, instance string, stay traffic.Affinity, secure bool) {
	h.Add("Set-Cookie", (&http.Cookie{Name: cookieOf(p.name), Value: p.signed(instance), Path: "/", MaxAge: int(stay.For / time.Second),
		HttpOnly: true, Secure: secure, SameSite: http.SameSiteLaxMode}).String())
}

// byHash takes the target that a hash belongs to by weighted rendezvous: each has the part of
// the hashes that its weight says, and when one goes only its own move.
func (l *lane) byHash(c *choice, h uint64) *target {
	var closed []*target
	for {
		var best *target
		most := math.Inf(-1)
		for _, t := range l.targets {
			w := math.Float64frombits(t.weight.Load())
			if w == 0 || !t.isOpen() || t.isAside(time.Now()) || slices.Contains(c.tried, t) || slices.Contains(closed, t) {
				continue
			}
			// The logarithm of a number evenly between 0 and 1, by the weight (Thaler, Ravishankar;
			// weighted as by Schindelhauer, Schomaker).
			u := (float64(mix(h^t.hash)>>11) + 0.5) / (1 << 53)
			if score := math.Log(u) / w; best == nil || score > most {
				best, most = t, score
			}
		}
		if best == nil || c.take(best, false) {
			return best
		}
		closed = append(closed, best)
	}
}
