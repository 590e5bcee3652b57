package gateway

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"innerladder/internal/core/request"
	"innerladder/internal/core/signature"
	"innerladder/internal/core/traffic"
	"innerladder/internal/recorder"
	"innerladder/internal/requestlog"

	"github.com/valyala/fasthttp"
)

// BenchmarkInfer measures one request through the gateway on loopback, with the model server and the caller in the same
// process, and with what the log of requests keeps: nothing, what it usually does, and everything.
func BenchmarkInfer(b *testing.B) {
	usual := request.UsualKeeping()
	all := usual
	all.PerSecond = 0
	for _, c := range []struct {
		name string
		kept *request.Keeping
	}{{"none kept", nil}, {"100 a second kept", &usual}, {"all kept", &all}} {
		b.Run(c.name, func(b *testing.B) { infers(b, c.kept) })
	}
}

func infers(b *testing.B, kept *request.Keeping) {
	config := Config{IDs: testIDs, Timeout: time.Second, Connections: 64}
	route := traffic.Route{Endpoint: "demand-hourly", ID: 1, Split: 1, Since: time.Now()}
	if kept != nil {
		log := requestlog.New(b.TempDir(), []byte("secret"), slog.New(slog.DiscardHandler))
		config.Requests, route.Requests = log, *kept
		ctx, stop := context.WithCancel(b.Context())
		var both sync.WaitGroup
		both.Go(func() { log.Run(ctx) })
		both.Go(func() {
			for second := time.NewTicker(time.Second); ; log.Tick() {
				select {
				case <-second.C:
				case <-ctx.Done():
					return
				}
			}
		})
		defer func() {
			stop()
			both.Wait()
			if s := log.Status(); s.Trouble != "" {
				b.Error(s.Trouble)
			} else {
				b.ReportMetric(float64(s.Unwritten), "lost")
			}
		}()
	}
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
	g := New(config, rec, slog.New(slog.DiscardHandler))
	front := listen()
	go func() { _ = g.Serve(front) }()
	defer func() { _ = g.Stop(b.Context()) }()
	route.Lanes = []traffic.RouteLane{{
		Lane: traffic.Lane{Kind: traffic.Main, Version: "heat-demand@1", Share: traffic.Whole}, Model: "heat-demand",
		Addresses: []traffic.RouteAddress{{URL: "http://" + model.Addr().String(), Healthy: true}},
	}}
	if err := g.Route(route); err != nil {
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

// BenchmarkMisfit measures what it costs to hold a request against the contract.
func BenchmarkMisfit(b *testing.B) {
	for _, size := range []struct{ rows, columns int }{{1, 4}, {16, 40}} {
		b.Run(fmt.Sprintf("%dx%d", size.rows, size.columns), func(b *testing.B) {
			takes := &signature.Signature{}
			var tensors []string
			for i := range size.columns {
				name := fmt.Sprint("column_", i)
				takes.Inputs = append(takes.Inputs, signature.Column{
					Name: name, Type: signature.Number, Datatype: "FP64", Shape: []int64{-1},
				})
				tensors = append(tensors, fmt.Sprintf(`{"name":%q,"datatype":"FP64","shape":[%d],"data":[1.25%s]}`,
					name, size.rows, strings.Repeat(",-3.75", size.rows-1)))
			}
			x := &exchange{
				caller: &caller{}, endpoint: &endpoint{takes: takes},
				body: []byte(`{"inputs":[` + strings.Join(tensors, ",") + `]}`),
			}
			b.ReportAllocs()
			for b.Loop() {
				if r := x.misfit(); r != nil {
					b.Fatal(r.sentence)
				}
			}
		})
	}
}
