// Package load sends requests on their own clock and measures what becomes of them.
package load

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"innerladder/internal/core/evidence"
	"innerladder/internal/core/load"

	"github.com/valyala/fasthttp"
)

// Options say what is sent, where, and when.
type Options struct {
	load.Plan
	// URL is asked with POST, Header goes with every request.
	URL    string
	Header map[string]string
	// Bodies are sent one after the other, again and again.
	Bodies [][]byte
	// Connections is how many are open at most, Timeout how long an answer may take from when its request was due.
	Connections int
	Timeout     time.Duration
	// Progress is told about once a second how it goes; nil for nobody.
	Progress func(Progress)
}

// Progress is how a test goes.
type Progress struct {
	At time.Duration
	// Sent were due so far, Ended have ended, Failed of those failed.
	Sent, Ended, Failed int64
	// Rate is that of the plan now.
	Rate float64
}

// ended is what became of a request.
type ended struct {
	due, took time.Duration
	failure   string
}

// Run carries a load test out. When ctx ends it stops sending, and reports what there is.
func Run(ctx context.Context, o Options) (evidence.LoadReport, error) {
	if err := o.Check(); err != nil {
		return evidence.LoadReport{}, err
	}
	at, err := url.Parse(o.URL)
	if err != nil || at.Host == "" {
		return evidence.LoadReport{}, fmt.Errorf("%q is no address to send requests to", o.URL)
	}
	if len(o.Bodies) == 0 {
		return evidence.LoadReport{}, errors.New("there is nothing to send")
	}
	client := &fasthttp.HostClient{
		Addr: hostPort(at), IsTLS: at.Scheme == "https", MaxConns: o.Connections, MaxConnWaitTimeout: o.Timeout,
		NoDefaultUserAgentHeader: true, DisablePathNormalizing: true, ReadTimeout: o.Timeout, WriteTimeout: o.Timeout,
		MaxIdemponentCallAttempts: 1,
	}
	defer client.CloseIdleConnections()
	results := make(chan ended, 4096)
	var sent, done, failed atomic.Int64
	tally := load.NewTally(o.Plan)
	counted := make(chan struct{})
	go func() {
		defer close(counted)
		for e := range results {
			tally.Add(e.due, e.took, e.failure)
		}
	}()
	begin := time.Now()
	telling, stopTelling := context.WithCancel(context.WithoutCancel(ctx))
	var teller sync.WaitGroup
	teller.Go(func() {
		tick := time.NewTicker(time.Second)
		defer tick.Stop()
		for o.Progress != nil {
			select {
			case <-tick.C:
				t := min(time.Since(begin), o.For)
				o.Progress(Progress{t, sent.Load(), done.Load(), failed.Load(), o.At(t)})
			case <-telling.Done():
				return
			}
		}
	})
	var all sync.WaitGroup
	n := o.Requests()
	for i := 0; i < n && ctx.Err() == nil; {
		due := o.Due(i)
		if !sleep(ctx, due-time.Since(begin)) {
			break
		}
		for now := time.Since(begin); i < n && o.Due(i) <= now; i++ { // those that have come meanwhile
			due, body := o.Due(i), o.Bodies[i%len(o.Bodies)]
			sent.Add(1)
			all.Go(func() {
				err := o.ask(client, body, begin.Add(due+o.Timeout))
				took := time.Since(begin) - due
				failure := ""
				if err != nil {
					failed.Add(1)
					failure = kindOf(err)
				}
				done.Add(1)
				results <- ended{due, took, failure}
			})
		}
	}
	all.Wait()
	close(results)
	<-counted
	stopTelling()
	teller.Wait()
	if tally.Requests == 0 {
		return evidence.LoadReport{}, errors.New("it was stopped before a request was sent")
	}
	return tally.Report(), nil
}

// ask sends one request; what is not answered well by the deadline failed.
func (o *Options) ask(client *fasthttp.HostClient, body []byte, deadline time.Time) error {
	req, res := fasthttp.AcquireRequest(), fasthttp.AcquireResponse()
	defer fasthttp.ReleaseRequest(req)
	defer fasthttp.ReleaseResponse(res)
	req.SetRequestURI(o.URL)
	req.Header.SetMethod(fasthttp.MethodPost)
	req.Header.SetContentType("application/json")
	for name, value := range o.Header {
		req.Header.Set(name, value)
	}
	req.SetBodyRaw(body)
	if err := client.DoDeadline(req, res, deadline); err != nil {
		return err
	}
	if res.StatusCode() >= 400 {
		return fmt.Errorf("status %d", res.StatusCode())
	}
	return nil
}

// kindOf is what a failure was, in few words: addresses of single connections say nothing.
func kindOf(err error) string {
	var refused *net.OpError
	switch {
	case errors.Is(err, fasthttp.ErrTimeout), errors.Is(err, fasthttp.ErrNoFreeConns), os.IsTimeout(err):
		return "no answer in time"
	case errors.As(err, &refused):
		return refused.Op + ": " + refused.Err.Error()
	}
	return err.Error()
}

func hostPort(u *url.URL) string {
	switch {
	case u.Port() != "":
		return u.Host
	case u.Scheme == "https":
		return u.Host + ":443"
	}
	return u.Host + ":80"
}

// sleep waits; false means that ctx has ended.
func sleep(ctx context.Context, d time.Duration) bool {
	if d <= 0 {
		return ctx.Err() == nil
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return true
	case <-ctx.Done():
		return false
	}
}
