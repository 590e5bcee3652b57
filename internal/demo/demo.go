package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"innerladder/internal/client"
	"innerladder/internal/core/lineage"
	"innerladder/internal/standin"
)

// Options say how to play the demo.
type Options struct {
	// Data is where everything is kept; empty is a new temporary directory.
	Data            string
	Listen, Gateway string
	// For is how long it runs; 0 is until ctx is done.
	For  time.Duration
	Seed uint64
	// Story is the one of Stories that is played alone; empty is the usual one.
	Story string
	// Rate is that of requests to demand-hourly, a second.
	Rate     float64
	Out, Err io.Writer
}

// play is one playing of the demo.
type play struct {
	Options
	town     *town
	begin    time.Time
	children []*child
	server   string
	gateway  string
	// runa belongs to the forecasting team and asks; tove runs the dispatch desk and
	// signs.
	runa, tove *client.Client
	// sif keeps the service: people, projects, environments.
	sif *client.Client
	// password is everybody's, made up anew each time.
	password string
	// key is that of the maintenance app to valve-check.
	key     string
	callers map[string]*callers
	// trainData and testData are the data sets by kind; base is what models start from.
	trainData, testData map[string]string
	base                []lineage.Parent
	// delivered is what the controllers in the substations compute.
	delivered *standin.Model
	// registered counts the versions of each model.
	registered map[string]int
	calling    sync.WaitGroup
	// done holds what the story has shown.
	done []string
}

// Run plays the demo until ctx is done, or for as long as was asked. It fails when the
// story did not play out.
func Run(ctx context.Context, o Options) error {
	p := &play{Options: o, begin: time.Now(), callers: map[string]*callers{}, registered: map[string]int{}}
	if err := p.prepare(); err != nil {
		return err
	}
	deadline := ctx
	if o.For > 0 {
		var cancel context.CancelFunc
		deadline, cancel = context.WithTimeout(ctx, o.For)
		defer cancel()
	}
	calling, stopCalling := context.WithCancel(context.WithoutCancel(ctx))
	defer func() {
		// In this order nobody notices: first the callers, then the service, then the
		// model servers.
		stopCalling()
		p.calling.Wait()
		p.stopChildren()
	}()
	err := p.story(deadline, calling)
	switch {
	case ctx.Err() != nil:
		p.say("stopping")
		return nil
	case errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("the story did not play out within %s; it got as far as: %s", o.For,
			strings.Join(p.done, ", "))
	case err != nil:
		return err
	}
	p.whereToLook()
	select {
	case <-deadline.Done():
	case broken := <-p.broken():
		return fmt.Errorf("%s ended by itself: %w", broken.name,
			errors.Join(broken.err, errors.New("see its log in "+filepath.Join(p.Data, "logs"))))
	}
	err = p.summary(context.WithoutCancel(ctx))
	if ctx.Err() != nil { // whoever ends it may have made trouble
		p.say("stopping")
		return nil
	}
	return err
}

func (p *play) say(format string, args ...any) {
	fmt.Fprintf(p.Out, "%6.1f s  %s\n", time.Since(p.begin).Seconds(), fmt.Sprintf(format, args...))
}

// prepare makes the directories; a data directory that holds something already is left
// alone.
func (p *play) prepare() (err error) {
	if p.Data == "" {
		if p.Data, err = os.MkdirTemp("", "innerladder-demo-"); err != nil {
			return err
		}
	}
	entries, err := os.ReadDir(p.Data)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if len(entries) > 0 {
		return fmt.Errorf("%s is not empty; give the demo a new directory with -data", p.Data)
	}
	for _, d := range []string{"town", "logs", "people"} {
		if err := os.MkdirAll(filepath.Join(p.Data, d), 0o700); err != nil {
			return err
		}
	}
	return nil
}

// broken tells of the first child that ends by itself.
func (p *play) broken() <-chan *child {
	ch := make(chan *child, len(p.children))
	for _, c := range p.children {
		go func() {
			<-c.done
			ch <- c
		}()
	}
	return ch
}

func (p *play) stopChildren() {
	// The service was started first and stops first; the model servers then all at once.
	if len(p.children) == 0 {
		return
	}
	p.children[0].stop()
	var wait sync.WaitGroup
	for _, c := range p.children[1:] {
		wait.Go(c.stop)
	}
	wait.Wait()
}

// step does one thing of the story and remembers it.
func (p *play) step(ctx context.Context, what string, do func() error) error {
	if err := do(); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fmt.Errorf("%s: %w", what, err)
	}
	p.done = append(p.done, what)
	return nil
}

// whereToLook says what to do next.
func (p *play) whereToLook() {
	fmt.Fprintf(p.Out, `
The story has been played; traffic goes on. Look around:

  console            %s, as tove (signs), runa (asks), odd (reads the heat models) or sif (keeps the service)
                     the password of all four is %s
  command line       innerladder login -server %s -token-file %s
                     innerladder endpoint show demand-hourly
                     innerladder rollout show R-1
                     innerladder incident show I-1
                     innerladder reviews
                     innerladder accuracy demand-hourly -worst 5
                     innerladder custom show demand-hourly
                     innerladder outcomes demand-hourly %s
  make trouble       innerladder standin tell URL -fail 20   (URLs: innerladder placements)
  data and logs      %s
`, p.server, p.password, p.server, p.tokenFile("tove"), p.truthFile(), p.Data)
	if p.For == 0 {
		fmt.Fprintln(p.Out, "\nCtrl-C ends all of it.")
	}
}

// summary says what happened, and fails when something did not.
func (p *play) summary(ctx context.Context) error {
	fmt.Fprintf(p.Out, "\nplayed: %s\n", strings.Join(p.done, "; "))
	var lost uint64
	for _, name := range slices.Sorted(maps.Keys(p.callers)) {
		c := p.callers[name]
		by := c.byVersion()
		var parts []string
		for _, v := range slices.Sorted(maps.Keys(by)) {
			parts = append(parts, fmt.Sprintf("%s %d", v, by[v]))
		}
		fmt.Fprintf(p.Out, "%-16s %d requests, %d failed, %d not sent in time; answered by %s\n", name, c.sent.Load(),
			c.failed.Load(), c.late.Load(), strings.Join(parts, ", "))
		lost += c.failed.Load()
	}
	if lost > 0 {
		return fmt.Errorf("%d requests failed, although no model server did", lost)
	}
	e, err := p.runa.Endpoint(ctx, "demand-hourly")
	if err != nil {
		return err
	}
	if len(e.Split.Trials()) > 0 {
		fmt.Fprintf(p.Out, "demand-hourly is on trial again: %s\n", e.Split.String())
	}
	return nil
}
