package gateway

import (
	"strconv"
	"time"

	"innerladder/internal/core/request"
	"innerladder/internal/core/sketch"
	"innerladder/internal/core/traffic"
	"innerladder/internal/recorder"
	"innerladder/internal/requestlog"

	"github.com/google/uuid"
)

// account is where what becomes of the requests to one endpoint is written down, beside what its lanes count.
type account struct {
	refusals *recorder.Refusals
	// requests keeps single ones; nil keeps none.
	requests *requestlog.Stream
}

func (g *Gateway) accountOf(endpoint int64, name string, k request.Keeping) account {
	a := account{refusals: g.recorder.Refusals(name)}
	if g.config.Requests != nil {
		a.requests = g.config.Requests.Stream(endpoint, name, k)
	}
	return a
}

// account is that of the endpoint which was asked.
func (x *exchange) account() *account {
	if x.endpoint != nil {
		return &x.endpoint.account
	}
	return &x.g.nowhere
}

// turnedAway counts a refusal, and keeps the request when no lane has dealt with it. Questions about the gateway
// and an endpoint are no requests.
func (x *exchange) turnedAway(r *refusal) {
	if x.question || x.copied != nil {
		return
	}
	why, ours := request.ReasonOf(r.code)
	if ours {
		x.account().refusals.Count(why)
	}
	s := x.account().requests
	if s == nil || x.willObserve || !ours {
		return
	}
	if _, wanted := s.Wants(true); !wanted {
		return
	}
	e := request.Kept{
		Ended: time.Now(), Lane: request.RefusedLane, Key: x.callerName, Outcome: request.Refused, Status: r.status,
		Reason: r.code, Chance: 1, RequestBytes: max(0, x.framing.Length),
	}
	switch {
	case x.endpoint != nil:
		e.Split = x.endpoint.split
	case !x.headless:
		e.Asked = printable(string(x.head.Method) + " " + string(x.head.Target))
	}
	if x.lane != nil {
		e.Version = x.lane.version
	}
	if x.body == nil && e.RequestBytes > 0 {
		e.RequestNote = "not read, since it was turned away"
	}
	s.Put(x.uuid, e, x.body, nil)
}

// printable is as much of what a caller wrote as is worth keeping, without what no screen can show.
func printable(text string) string {
	const most = 200
	quoted := strconv.QuoteToASCII(text[:min(len(text), most)])
	return quoted[1 : len(quoted)-1]
}

// keepRequest hands a request that a lane has dealt with to the log of the endpoint. answer is the body that the
// model server gave, nil when it is not kept.
func (x *exchange) keepRequest(class sketch.Class, total time.Duration, answer []byte) {
	s := x.endpoint.requests
	if s == nil || x.copied != nil {
		return
	}
	instead := x.lane != x.planned
	chance, wanted := s.Wants(requestlog.Rare(class, instead))
	if !wanted {
		return
	}
	if x.callerName == "" && len(x.endpoint.callers) > 0 {
		x.isCaller(x.endpoint)
	}
	e := request.Kept{
		Ended: x.now, Split: x.endpoint.split, Lane: string(x.lane.kind), Version: x.lane.version, Key: x.callerName,
		Outcome: request.OutcomeOf(class), Status: x.status, Total: total.Microseconds(),
		Backend: min(x.backend, total).Microseconds(), RequestBytes: max(0, x.framing.Length), Chance: chance,
	}
	if x.pinned {
		e.Lane = recorder.Pinned
	}
	if instead {
		e.Instead = x.planned.version
	}
	if x.refused != nil {
		e.Reason = x.refused.code
	}
	if class == sketch.Abandoned {
		e.Status = 499
	}
	var asked []byte
	if x.streamed {
		e.RequestNote = "streamed, and not kept"
	} else {
		asked = x.body
	}
	switch {
	case answer != nil:
	case x.said != nil:
		answer = x.said
	case class == sketch.Answered:
		e.AnswerNote = "streamed or binary, and not kept"
	}
	s.Put(x.uuid, e, asked, answer)
}

// nameRefused gives a request that no lane deals with an id, so that its caller can say which it was.
func (x *exchange) nameRefused() {
	if x.uuid != (uuid.UUID{}) || x.question {
		return
	}
	origin := traffic.Origin{Lane: traffic.NoLane}
	if x.endpoint != nil {
		origin.Endpoint, origin.Split = x.endpoint.id, x.endpoint.split
	}
	x.nameAs(time.Now(), origin)
}

// refusedLines are the header lines of an answer that no lane has given.
func (x *exchange) refusedLines() []byte {
	if x.uuid == (uuid.UUID{}) {
		return nil
	}
	return append(append([]byte(RequestHeader+": "), x.id[:]...), "\r\n"...)
}

// unread is a refusal of a request whose head could not be read, or that came when there was no room for it.
func (c *caller) unread(r *refusal) {
	x := c.unheard(r)
	c.writeOwn(r.status, r.body(), x.refusedLines(), r.closes, r.retries())
}

// unheard counts such a refusal, of which nobody may be told.
func (c *caller) unheard(r *refusal) *exchange {
	x := &exchange{caller: c, g: c.g, headless: true}
	x.nameRefused()
	x.turnedAway(r)
	return x
}
