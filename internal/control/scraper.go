package control

import (
	"context"
	"fmt"
	"io"
	"math"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	dto "github.com/prometheus/client_model/go"
	"github.com/prometheus/common/expfmt"
	"github.com/prometheus/common/model"

	"unitas/internal/fleet/metric"
)

// What instances tell of themselves, on a page in the text format of Prometheus.

const (
	// scrapeLimit is how long an instance may take to tell.
	scrapeLimit = 5 * time.Second
	// scrapeMost is how much it may tell, in bytes.
	scrapeMost = 1 << 20
)

// scraper asks instances for their metrics.
type scraper struct{ client *http.Client }

func newScraper() *scraper {
	return &scraper{client: &http.Client{
		Timeout:       scrapeLimit,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
		Transport:     &http.Transport{DialContext: (&net.Dialer{Timeout: scrapeLimit}).DialContext, MaxIdleConnsPerHost: 1, IdleConnTimeout: 2 * metric.Every, MaxResponseHeaderBytes: 16 << 10, DisableCompression: true},
	}}
}

// all asks every instance of the groups whose rules go by what it tells. Who does not answer
// in time is missing.
func (s *scraper) all(ctx context.Context, groups []*measured) {
	type asked struct {
		o     *one
		url   string
		names []metric.Name
	}
	var all []asked
	for _, m := range groups {
		var names []metric.Name
		for _, n := range m.names() {
			if _, yes := n.Scraped(); yes {
				names = append(names, n)
			}
		}
		if len(names) == 0 {
			continue
		}
		for k := range m.of {
			if o := &m.of[k]; o.address != "" {
				all = append(all, asked{o, scrapeURL(o, m.group.Scrape), names})
			}
		}
	}
	each(all, scraping, func(a asked) {
		families, err := s.ask(ctx, a.url)
		if err != nil {
			return
		}
		for _, n := range a.names {
			name, _ := n.Scraped()
			if f := families[name]; f != nil {
				a.o.values[n] = valueOf(f)
			}
		}
	})
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
