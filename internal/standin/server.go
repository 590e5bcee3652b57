package standin

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"net"
	"net/http"
	"sync/atomic"
	"time"

	"innerladder/internal/core/signature"
	"innerladder/internal/modelserver"
	"innerladder/internal/oip"

	"github.com/gofiber/fiber/v3"
)

// Behaviour is how a stand-in misbehaves; its zero value is not at all.
type Behaviour struct {
	// StartAfter is how long from now the server is not ready.
	StartAfter time.Duration `json:"start_after"`
	// Delay is how much longer every answer takes.
	Delay time.Duration `json:"delay"`
	// FailPercent is the share of requests that fail, in per cent.
	FailPercent float64 `json:"fail_percent"`
	// Bias is added to every numeric prediction.
	Bias float64 `json:"bias"`
	// CrashAfter is when the server crashes; 0 is never.
	CrashAfter time.Duration `json:"crash_after"`
}

// Check says whether a stand-in can behave so.
func (b Behaviour) Check() error {
	if b.Delay < 0 || b.StartAfter < 0 || b.CrashAfter < 0 || !(b.FailPercent >= 0 && b.FailPercent <= 100) ||
		b.Bias-b.Bias != 0 {
		return errors.New("give delays from 0, a share of failures from 0 to 100, and a finite bias")
	}
	return nil
}

// String is the behaviour in words.
func (b Behaviour) String() string {
	return fmt.Sprintf("ready after %s, delay %s, %v %% of requests fail, bias %+g, crash after %s", b.StartAfter,
		b.Delay, b.FailPercent, b.Bias, b.CrashAfter)
}

// behaviourPath is where a stand-in is told how to behave.
const behaviourPath = "/standin/behaviour"

// Options say how to run a stand-in.
type Options struct {
	// Listen is its address, Model the file of the fitted model, Name what the model is
	// called; empty is the name in the file.
	Listen, Model, Name string
	Behaviour           Behaviour
	// Started is told the address when it answers.
	Started func(address, model string)
}

type server struct {
	model     *Model
	readyAt   atomic.Pointer[time.Time]
	behaviour atomic.Pointer[Behaviour]
	// crash ends the server as if it had been killed.
	crash chan struct{}
}

// ErrCrashed is what a stand-in ends with when it was told to crash.
var ErrCrashed = errors.New("crashed as told")

// Run serves until ctx is done, or until it crashes as told.
func Run(ctx context.Context, o Options) error {
	m, err := Load(o.Model)
	if err != nil {
		return err
	}
	if o.Name != "" {
		m.Name = o.Name
	}
	s := &server{model: m, crash: make(chan struct{}, 1)}
	s.behave(o.Behaviour)
	l, err := net.Listen("tcp", o.Listen)
	if err != nil {
		return fmt.Errorf("listening: %w", err)
	}
	app := s.app()
	broken := make(chan error, 1)
	go func() { broken <- app.Listener(l, fiber.ListenConfig{DisableStartupMessage: true}) }()
	if o.Started != nil {
		o.Started("http://"+l.Addr().String(), m.Name)
	}
	select {
	case err := <-broken:
		return err
	case <-s.crash:
		_ = l.Close()
		return ErrCrashed // the process ends without finishing anything
	case <-ctx.Done():
		grace, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		return app.ShutdownWithContext(grace)
	}
}

// behave puts a behaviour in force.
func (s *server) behave(b Behaviour) {
	ready := time.Now().Add(b.StartAfter)
	s.readyAt.Store(&ready)
	s.behaviour.Store(&b)
	if b.CrashAfter > 0 {
		time.AfterFunc(b.CrashAfter, func() {
			select {
			case s.crash <- struct{}{}:
			default:
			}
		})
	}
}

func (s *server) app() *fiber.App {
	app := fiber.New(fiber.Config{AppName: "stand-in", BodyLimit: 64 << 20, UnescapePath: true})
	modelserver.Protocol{
		Server: oip.ServerMetadata{Name: "innerladder-standin", Version: "1", Extensions: []string{}},
		Model:  s.metadata(), Ready: s.ready, Infer: s.infer,
	}.Routes(app)
	app.Get(behaviourPath, func(c fiber.Ctx) error { return c.JSON(s.behaviour.Load()) })
	app.Post(behaviourPath, func(c fiber.Ctx) error {
		var b Behaviour
		if err := json.Unmarshal(c.Body(), &b); err != nil {
			return modelserver.Refuse(c, 400, "the behaviour is no JSON: "+err.Error())
		}
		if err := b.Check(); err != nil {
			return modelserver.Refuse(c, 400, err.Error())
		}
		s.behave(b)
		return c.JSON(b)
	})
	return app
}

// ready says whether it has started by now.
func (s *server) ready() error {
	if time.Now().Before(*s.readyAt.Load()) {
		return errors.New("still starting")
	}
	return nil
}

// datatypes are those of the protocol for our types.
var datatypes = map[signature.Type]string{
	signature.Number: "FP64", signature.Integer: "INT64", signature.Boolean: "BOOL",
	signature.Text: "BYTES",
}

func (s *server) metadata() oip.ModelMetadata {
	m := oip.ModelMetadata{Name: s.model.Name, Platform: "innerladder-standin"}
	for _, col := range s.model.Inputs {
		m.Inputs = append(m.Inputs, signature.Tensor{Name: col.Name, Datatype: datatypes[col.Type], Shape: []int64{-1}})
	}
	m.Outputs = []signature.Tensor{{
		Name: s.model.Output.Name, Datatype: datatypes[s.model.Output.Type],
		Shape: []int64{-1},
	}}
	if n := len(s.model.Classes); n > 0 {
		m.Outputs = append(m.Outputs, signature.Tensor{Name: "scores", Datatype: "FP64", Shape: []int64{-1, int64(n)}})
	}
	return m
}

// infer predicts every row of a request.
func (s *server) infer(c fiber.Ctx) error {
	if err := s.ready(); err != nil {
		return modelserver.Refuse(c, 503, err.Error())
	}
	b := s.behaviour.Load()
	if b.Delay > 0 {
		// A real server's time varies, mostly upwards; so does this one's.
		time.Sleep(time.Duration(float64(b.Delay) * math.Exp(0.22*rand.NormFloat64())))
	}
	if rand.Float64()*100 < b.FailPercent {
		return modelserver.Refuse(c, 500, "told to fail")
	}
	req, err := oip.ParseRequest(c.Body())
	if err != nil {
		return modelserver.Refuse(c, 400, err.Error())
	}
	rows, err := s.rows(req)
	if err != nil {
		status := 400
		if s.model.Strict && errors.Is(err, errMissing) {
			status = 500 // the model itself breaks on it, which is the point of such a model
		}
		return modelserver.Refuse(c, status, err.Error())
	}
	return c.JSON(oip.InferResponse{ModelName: s.model.Name, ID: req.ID, Outputs: s.predict(rows, b.Bias)})
}

var errMissing = errors.New("is missing")

// rows turns the tensors of a request into rows.
func (s *server) rows(req *oip.InferRequest) ([]Row, error) {
	rows := make([]Row, req.Inputs[0].Rows())
	for i := range rows {
		rows[i] = Row{}
	}
	for _, t := range req.Inputs {
		if len(t.Data) != len(rows) {
			return nil, fmt.Errorf("input %q has %d values for %d rows", t.Name, len(t.Data), len(rows))
		}
		for i, v := range t.Data {
			rows[i][t.Name] = v
		}
	}
	for _, col := range s.model.Inputs {
		for i, row := range rows {
			v, there := row[col.Name]
			if _, fill := s.model.Fill[col.Name]; (!there || v == nil) && (s.model.Strict || !fill) {
				return nil, fmt.Errorf("input %q of row %d %w", col.Name, i+1, errMissing)
			}
		}
	}
	return rows, nil
}

func (s *server) predict(rows []Row, bias float64) []oip.Tensor {
	n := int64(len(rows))
	out := oip.Tensor{
		Name: s.model.Output.Name, Datatype: datatypes[s.model.Output.Type], Shape: []int64{n},
		Data: oip.Data{},
	}
	if len(s.model.Classes) == 0 {
		for _, row := range rows {
			out.Data = append(out.Data, s.model.Predict(row)+bias)
		}
		return []oip.Tensor{out}
	}
	scores := oip.Tensor{
		Name: "scores", Datatype: "FP64", Shape: []int64{n, int64(len(s.model.Classes))},
		Data: oip.Data{},
	}
	for _, row := range rows {
		class, p := s.model.Classify(row)
		out.Data = append(out.Data, class)
		for _, x := range p {
			scores.Data = append(scores.Data, x)
		}
	}
	return []oip.Tensor{out, scores}
}

// Tell tells a running stand-in how to behave from now on.
func Tell(ctx context.Context, address string, b Behaviour) error {
	body, err := json.Marshal(b)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, address+behaviourPath, bytes.NewReader(body))
	if err != nil {
		return fmt.Errorf("telling %s: %w", address, err)
	}
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return fmt.Errorf("telling %s: %w; is it a stand-in that runs?", address, err)
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		said, _ := io.ReadAll(io.LimitReader(res.Body, 4096))
		return fmt.Errorf("telling %s: it answered %s: %s", address, res.Status, bytes.TrimSpace(said))
	}
	return nil
}
