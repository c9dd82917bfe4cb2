package request

import (
	"context"
	"net"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"entelon/people"
	"entelon/server/api"
)

// OperatingRoutes answers for those who run the server.
type OperatingRoutes struct{ *Server }

// metrics are the numbers about this server for who runs it, in the open text
// format.
type metrics struct {
	registry *prometheus.Registry
	requests *prometheus.CounterVec
	seconds  *prometheus.HistogramVec
	Uploads  *prometheus.CounterVec
}

// NewMetrics counts nothing yet.
func NewMetrics(s *Server) *metrics {
	m := &metrics{
		registry: prometheus.NewRegistry(),
		requests: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "entelon_requests_total", Help: "Requests answered, by route, method and status."}, []string{"route", "method", "status"}),
		seconds:  prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "entelon_request_seconds", Help: "How long answers took, by route.", Buckets: []float64{0.005, 0.02, 0.1, 0.3, 1, 3, 10, 60}}, []string{"route"}),
		Uploads:  prometheus.NewCounterVec(prometheus.CounterOpts{Name: "entelon_takes_received_total", Help: "Takes that were sent, by what became of them."}, []string{"result"}),
	}
	m.registry.MustRegister(m.requests, m.seconds, m.Uploads, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}), &gauges{s: s})
	return m
}

// count notes a request that was answered.
func (m *metrics) count(route, method string, status int, took time.Duration) {
	m.requests.WithLabelValues(route, method, strconv.Itoa(status)).Inc()
	m.seconds.WithLabelValues(route).Observe(took.Seconds())
}

// gauges are numbers that are looked up when somebody asks.
type gauges struct{ s *Server }

var (
	memoryUsed  = prometheus.NewDesc("entelon_memory_used_bytes", "Memory of everything that is opened, compared or read.", nil, nil)
	memoryLimit = prometheus.NewDesc("entelon_memory_limit_bytes", "Bound of that memory.", nil, nil)
	memoryItems = prometheus.NewDesc("entelon_memory_items", "Takes, shapes, comparisons and answers that are kept.", nil, nil)
	insideNow   = prometheus.NewDesc("entelon_requests_inside", "Requests that are worked on, by kind.", []string{"kind"}, nil)
	waitingNow  = prometheus.NewDesc("entelon_requests_waiting", "Requests that wait for their turn, by kind.", []string{"kind"}, nil)
	databaseUp  = prometheus.NewDesc("entelon_database_up", "1 if the database answers.", nil, nil)
	databaseUse = prometheus.NewDesc("entelon_database_bytes", "What the database's tables have on the disk.", nil, nil)
	connections = prometheus.NewDesc("entelon_database_connections", "Connections to the database, by pool and state.", []string{"pool", "state"}, nil)
	takesKept   = prometheus.NewDesc("entelon_takes", "Takes that are kept.", nil, nil)
	jobsNow     = prometheus.NewDesc("entelon_jobs", "Jobs, by state.", []string{"state"}, nil)
	collectorUp = prometheus.NewDesc("entelon_collector_up", "1 if the collector was heard of just now.", []string{"collector"}, nil)
)

// Describe implements prometheus.Collector.
func (g *gauges) Describe(to chan<- *prometheus.Desc) { prometheus.DescribeByCollect(g, to) }

// Collect implements prometheus.Collector.
func (g *gauges) Collect(to chan<- prometheus.Metric) {
	put := func(d *prometheus.Desc, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	used, items := g.s.Keep.Used()
	put(memoryUsed, float64(used))
	put(memoryLimit, float64(g.s.Keep.Limit()))
	put(memoryItems, float64(items))
	for l, name := range map[load]string{light: "light", Heavy: "heavy", Bulky: "bulky"} {
		inside, waiting := g.s.Gates[l].Load()
		put(insideNow, float64(inside), name)
		put(waitingNow, float64(waiting), name)
	}
	if g.s.Store == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	for pool, st := range g.s.Store.Pools() {
		put(connections, float64(st.InUse), pool, "in use")
		put(connections, float64(st.Idle), pool, "idle")
	}
	counts, err := g.s.Store.Counts(ctx)
	if err != nil {
		put(databaseUp, 0)
		return
	}
	put(databaseUp, 1)
	put(takesKept, float64(counts.Takes))
	for state, n := range counts.Jobs {
		put(jobsNow, float64(n), state)
	}
	for name, seen := range counts.Collectors {
		up := 0.0
		if time.Since(seen) < HereWithin {
			up = 1
		}
		put(collectorUp, up, name)
	}
	if n, err := g.s.Store.Used(ctx); err == nil {
		put(databaseUse, float64(n))
	}
}

// MetricsFor answers requests from this machine, and those with a token. A proxy on this
// machine asks for others, and is nobody by itself.
func (s OperatingRoutes) MetricsFor(c *gin.Context) {
	host, _, err := net.SplitHostPort(c.Request.RemoteAddr)
	here := err == nil && net.ParseIP(host).IsLoopback() && s.Options.ProxyHeader == "" && c.GetHeader("X-Forwarded-For") == "" && c.GetHeader("Forwarded") == ""
	if !here {
		v, err := SignInRoutes(s).VisitorOf(c)
		if err != nil {
			s.Fail(c, err)
			return
		}
		if v == nil || v.Person == nil || !v.Role.May(people.Look) {
			c.Header("WWW-Authenticate", "Bearer")
			c.AbortWithStatusJSON(http.StatusUnauthorized, api.ErrorBody{Error: "nobody is signed in", Remedy: "send a token with the role look"})
			return
		}
	}
	promhttp.HandlerFor(s.Metrics.registry, promhttp.HandlerOpts{MaxRequestsInFlight: 4, Timeout: 20 * time.Second}).ServeHTTP(c.Writer, c.Request)
}

// Healthy says that this process answers.
func (s OperatingRoutes) Healthy(c *gin.Context) { c.String(http.StatusOK, "ok\n") }

// Ready says whether questions would be answered: whether the database does.
func (s OperatingRoutes) Ready(c *gin.Context) {
	ctx, cancel := context.WithTimeout(c.Request.Context(), 5*time.Second)
	defer cancel()
	if err := s.Store.Ping(ctx); err != nil {
		c.String(http.StatusServiceUnavailable, "the database does not answer\n")
		return
	}
	select {
	case <-s.Options.Closing:
		c.String(http.StatusServiceUnavailable, "the server is ending\n")
	default:
		c.String(http.StatusOK, "ready\n")
	}
}
