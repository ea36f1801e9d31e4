package control

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	dto "github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"

	"unitas/internal/fleet/metric"
)

// What instances tell of themselves, on a page in the text format of Prometheus.

const (
	// scrapeLimit is how long an instance may take to tell, and silentLimit one that told nothing
	// the last time; scrapeBudget how long all of it may take, within sampleLimit.
	scrapeLimit  = 5 * time.Second
	silentLimit  = time.Second
	scrapeBudget = 8 * time.Second
	// scrapeMost is how much it may tell, in bytes.
	scrapeMost = 1 << 20
)

// scraper asks instances for their metrics.
type scraper struct {
	client *http.Client
	// How long an instance may take, one that was silent, and all of it.
	limit, silentLimit, budget time.Duration
	silent                     map[string]bool // those that told nothing at the last round
}

func newScraper() *scraper {
	return &scraper{limit: scrapeLimit, silentLimit: silentLimit, budget: scrapeBudget, client: &http.Client{
		Timeout:       scrapeLimit,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport:     &http.Transport{DialContext: (&net.Dialer{Timeout: scrapeLimit}).DialContext, MaxIdleConnsPerHost: 1, IdleConnTimeout: 2 * metric.Every, MaxResponseHeaderBytes: 16 << 10, DisableCompression: true},
	}}
}

// all asks every instance of the groups whose rules go by what it tells. Who does not answer
// in time is missing. Each group asks by itself, those that did not answer the last time at its end
// and for a shorter time, so that nobody's silence costs others their values.
func (s *scraper) all(ctx context.Context, groups []*measured) {
	ctx, stop := context.WithTimeout(ctx, s.budget)
	defer stop()
	var mu sync.Mutex
	silent := map[string]bool{}
	all := make(chan struct{}, scraping)
	each(groups, len(groups)+1, func(m *measured) {
		var names []metric.Name
		for _, n := range m.names() {
			if _, yes := n.Scraped(); yes {
				names = append(names, n)
			}
		}
		if len(names) == 0 {
			return
		}
		var ask []*one
		for k := range m.of {
			if o := &m.of[k]; o.address != "" {
				ask = append(ask, o)
			}
		}
		slices.SortStableFunc(ask, func(a, b *one) int { return cmp.Compare(s.lateness(a), s.lateness(b)) })
		each(ask, scrapingEach, func(o *one) {
			select {
			case all <- struct{}{}:
				defer func() { <-all }()
			case <-ctx.Done():
				return
			}
			limit := s.limit
			if s.silent[o.id] {
				limit = s.silentLimit
			}
			ctx, stop := context.WithTimeout(ctx, limit)
			defer stop()
			families, err := s.ask(ctx, scrapeURL(o, m.group.Scrape))
			if err != nil {
				mu.Lock()
				silent[o.id] = true
				mu.Unlock()
				return
			}
			for _, n := range names {
				name, _ := n.Scraped()
				if f := families[name]; f != nil {
					o.values[n] = valueOf(f)
				}
			}
		})
	})
	s.silent = silent
}

// lateness puts those that were silent the last time behind the others.
func (s *scraper) lateness(o *one) int {
	if s.silent[o.id] {
		return 1
	}
	return 0
}

// scrapeURL is where an instance tells: [PORT]/PATH, of its own port without one.
func scrapeURL(o *one, where string) string {
	port, path, _ := strings.Cut(where, "/")
	if where == "" {
		path = "metrics"
	}
	if port == "" {
		port = strconv.Itoa(o.port)
	}
	return "http://" + net.JoinHostPort(o.address, port) + "/" + path
}

func (s *scraper) ask(ctx context.Context, url string) (map[string]*dto.MetricFamily, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return nil, err
	}
	r.Header.Set("Accept", "text/plain; version=0.0.4")
	res, err := s.client.Do(r)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("it answered %d", res.StatusCode)
	}
	parser := expfmt.NewTextParser(model.UTF8Validation)
	return parser.TextToMetricFamilies(io.LimitReader(res.Body, scrapeMost))
}

// valueOf is the sum of all series of a family: of a histogram or summary, of how many it
// counted.
func valueOf(f *dto.MetricFamily) float64 {
	sum := 0.0
	for _, m := range f.GetMetric() {
		switch {
		case m.Gauge != nil:
			sum += m.Gauge.GetValue()
		case m.Counter != nil:
			sum += m.Counter.GetValue()
		case m.Untyped != nil:
			sum += m.Untyped.GetValue()
		case m.Histogram != nil:
			sum += float64(m.Histogram.GetSampleCount())
		case m.Summary != nil:
			sum += float64(m.Summary.GetSampleCount())
		default:
			return math.NaN()
		}
	}
	return sum
}
