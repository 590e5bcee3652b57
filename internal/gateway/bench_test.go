package gateway

import (
	"log/slog"
	"net"
	"testing"
	"time"

	"innerladder/internal/core/traffic"
	"innerladder/internal/recorder"

	"github.com/valyala/fasthttp"
)

// BenchmarkInfer measures one request through the gateway on loopback, with the model
// server and the caller in the same process.
func BenchmarkInfer(b *testing.B) {
	rec := recorder.New(slog.New(slog.DiscardHandler), 1000)
	listen := func() net.Listener {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			b.Fatal(err)
		}
		return l
	}
	model := listen()
	answer := []byte(`{"model_name":"heat-demand","model_version":"1","outputs":[{"name":"demand_mw","shape":[1],"datatype":"FP64","data":[1.0625]}]}`)
	backend := &fasthttp.Server{Handler: func(c *fasthttp.RequestCtx) {
		c.SetContentType("application/json")
		c.SetBody(answer)
	}}
	go func() { _ = backend.Serve(model) }()
	defer func() { _ = backend.Shutdown() }()
	g := New(Config{IDs: testIDs, Timeout: time.Second, Connections: 64}, rec, slog.New(slog.DiscardHandler))
	front := listen()
	go func() { _ = g.Serve(front) }()
	defer func() { _ = g.Stop(b.Context()) }()
	if err := g.Route(traffic.Route{Endpoint: "demand-hourly", Split: 1, Since: time.Now(), Lanes: []traffic.RouteLane{{
		Lane: traffic.Lane{Kind: traffic.Main, Version: "heat-demand@1", Share: traffic.Whole}, Model: "heat-demand",
		Addresses: []traffic.RouteAddress{{URL: "http://" + model.Addr().String(), Healthy: true}},
	}}}); err != nil {
		b.Fatal(err)
	}
	client := &fasthttp.HostClient{Addr: front.Addr().String()}
	b.ReportAllocs()
	b.RunParallel(func(pb *testing.PB) {
		req, res := fasthttp.AcquireRequest(), fasthttp.AcquireResponse()
		req.SetRequestURI("http://" + front.Addr().String() + infer)
		req.Header.SetMethod("POST")
		req.SetBodyString(`{"inputs":[{"name":"outdoor_c","shape":[1],"datatype":"FP64","data":[-3.5]}]}`)
		for pb.Next() {
			if err := client.Do(req, res); err != nil || res.StatusCode() != 200 {
				b.Error(err, res.StatusCode())
				return
			}
		}
	})
}
