// Package modelserver is the built-in model server: it answers for one file that can be computed here, over the Open
// Inference Protocol with JSON and binary tensors.
package modelserver

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"runtime"
	"slices"
	"strconv"
	"sync/atomic"
	"time"

	"innerladder/internal/core/compute"
	"innerladder/internal/core/tensor"
	"innerladder/internal/oip"

	"github.com/gofiber/fiber/v3"
	recoverer "github.com/gofiber/fiber/v3/middleware/recover"
)

// Options say how to serve a model.
type Options struct {
	// Name is what the model is called.
	Name  string
	Model *compute.Model
	// Batching gathers rows of several requests.
	Batching Batching
	// Members measures those of an ensemble; nil where it is none.
	Members *Members
	// AtOnce is how many batches are computed at the same time, Waiting how many requests may wait for their turn; 0 is
	// one a processor, and 64 for each of those.
	AtOnce, Waiting int
	// Largest is the longest body that is taken; 0 is 64 MiB.
	Largest int
}

// Server answers for one model.
type Server struct {
	o     Options
	batch *batcher
	meter *meter
	ready atomic.Bool
	// inside is how many requests are computed or wait.
	inside atomic.Int64
}

// New makes a server, which is ready after Warm.
func New(o Options) *Server {
	if o.AtOnce == 0 {
		o.AtOnce = runtime.NumCPU()
	}
	if o.Waiting == 0 {
		o.Waiting = 64 * o.AtOnce
	}
	if o.Largest == 0 {
		o.Largest = 64 << 20
	}
	s := &Server{o: o}
	s.meter = newMeter(func() float64 { return float64(s.inside.Load()) }, o.Members)
	s.batch = &batcher{
		model: o.Model, how: o.Batching, meter: s.meter, slots: make(chan struct{}, o.AtOnce),
		alone: func() bool { return s.inside.Load() <= 1 },
	}
	return s
}

// warmUps is how many batches are computed before the first caller's.
const warmUps = 3

// Warm computes some batches, so that no caller pays for the first, and says that the server is ready. A model that
// does not take the made-up rows is ready too: the error says so, and the rows of the version are tried at placement.
func (s *Server) Warm() error {
	defer s.ready.Store(true)
	for range warmUps {
		in, err := compute.Sample(s.o.Model.Served.Inputs, 1)
		if err != nil {
			return err
		}
		if _, err := safely(s.o.Model, in); err != nil {
			return err
		}
	}
	return nil
}

// Serve answers until ctx is done, and then finishes what it has begun.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	app := s.app()
	broken := make(chan error, 1)
	go func() { broken <- app.Listener(l, fiber.ListenConfig{DisableStartupMessage: true}) }()
	select {
	case err := <-broken:
		return err
	case <-ctx.Done():
		s.ready.Store(false)
		grace, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
		defer cancel()
		return app.ShutdownWithContext(grace)
	}
}

func (s *Server) app() *fiber.App {
	app := fiber.New(fiber.Config{
		AppName: "innerladder runner", BodyLimit: s.o.Largest, UnescapePath: true, ReadTimeout: time.Minute,
		IdleTimeout: 5 * time.Minute,
		ErrorHandler: func(c fiber.Ctx, err error) error {
			status := 500
			var known *fiber.Error
			if errors.As(err, &known) {
				status = known.Code
			}
			return Refuse(c, status, err.Error())
		},
	})
	app.Use(recoverer.New()) // whatever happens in a request, the process goes on
	Protocol{
		Server: oip.ServerMetadata{
			Name: "innerladder-runner", Version: "1", Extensions: []string{"binary_tensor_data"},
		},
		Model: oip.ModelMetadata{Name: s.o.Name, Platform: "innerladder-runner", Served: s.o.Model.Served},
		Ready: func() error {
			if !s.ready.Load() {
				return errors.New("starting, or about to stop")
			}
			return nil
		},
		Infer: s.infer,
	}.Routes(app)
	app.Get("/metrics", s.meter.serve)
	return app
}

// infer computes a request.
func (s *Server) infer(c fiber.Ctx) error {
	begin := time.Now()
	status, rows, err := s.answer(c)
	s.meter.requests.WithLabelValues(strconv.Itoa(status)).Inc()
	s.meter.rows.Add(float64(rows))
	s.meter.took.Observe(time.Since(begin).Seconds())
	return err
}

// answer writes the answer and says how it is.
func (s *Server) answer(c fiber.Ctx) (status, rows int, err error) {
	say := func(status int, why string) (int, int, error) { return status, 0, Refuse(c, status, why) }
	if n := s.inside.Add(1); n > int64(s.o.AtOnce+s.o.Waiting) {
		s.inside.Add(-1)
		c.Set("Retry-After", "1")
		return say(503, fmt.Sprintf("%d requests wait already", s.o.Waiting))
	}
	defer s.inside.Add(-1)
	length := int64(-1)
	if h := c.Get("Inference-Header-Content-Length"); h != "" {
		if length, err = strconv.ParseInt(h, 10, 64); err != nil || length < 0 {
			return say(400, "Inference-Header-Content-Length is no length")
		}
	}
	req, err := oip.ReadTyped(c.Body(), length)
	if err != nil {
		return say(400, err.Error())
	}
	in, rows, err := s.inputs(req)
	if err != nil {
		return say(400, err.Error())
	}
	out, err := s.batch.run(in)
	var broken *brokenError
	switch {
	case errors.As(err, &broken):
		return say(500, err.Error())
	case err != nil:
		return say(400, err.Error())
	}
	given := s.outputs(req, out)
	if len(given) < len(req.Wanted) {
		return say(400, fmt.Sprintf("not all of the outputs %q are given here", req.Wanted))
	}
	body, length, err := oip.WriteTyped(s.o.Name, req, given)
	if err != nil {
		return say(500, err.Error())
	}
	c.Set("Content-Type", "application/json")
	if length >= 0 {
		c.Set("Content-Type", "application/octet-stream")
		c.Set("Inference-Header-Content-Length", strconv.FormatInt(length, 10))
	}
	return http.StatusOK, rows, c.Send(body)
}

// inputs are those of a request in the order of the model's.
func (s *Server) inputs(req *oip.TypedRequest) (in []*tensor.Tensor, rows int, err error) {
	for _, want := range s.o.Model.Served.Inputs {
		i := slices.IndexFunc(req.Inputs, func(t oip.Typed) bool { return t.Name == want.Name })
		if i < 0 {
			return nil, 0, fmt.Errorf("the input %q is missing", want.Name)
		}
		in = append(in, req.Inputs[i].Tensor)
	}
	for _, t := range req.Inputs {
		if !slices.ContainsFunc(s.o.Model.Served.Inputs, func(w served) bool { return w.Name == t.Name }) {
			return nil, 0, fmt.Errorf("there is no input %q", t.Name)
		}
	}
	rows, _ = rowsOf(in)
	return in, rows, nil
}

// outputs are those that a request asks for.
func (s *Server) outputs(req *oip.TypedRequest, out []*tensor.Tensor) []oip.Typed {
	var given []oip.Typed
	for i, o := range s.o.Model.Served.Outputs {
		if len(req.Wanted) == 0 || slices.Contains(req.Wanted, o.Name) {
			given = append(given, oip.Typed{Name: o.Name, Tensor: out[i]})
		}
	}
	return given
}

// brokenError is a computation that broke: that is no fault of the request.
type brokenError struct{ what any }

func (e *brokenError) Error() string { return fmt.Sprintf("the model broke: %v", e.what) }

// safely computes a batch; whatever happens in it, the process goes on.
func safely(m *compute.Model, in []*tensor.Tensor) (out []*tensor.Tensor, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = &brokenError{r}
		}
	}()
	return m.Run(in)
}
