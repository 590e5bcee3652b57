package http1

import (
	"net"
	"time"
)

// apiBlock is how many bytes must come in BlockTime at least through a listener of Rated.
const apiBlock = 64 << 10

// Rated makes the connections of a listener end when somebody sends too slowly. It is for
// servers that set a read deadline of BlockTime when a request begins: that is put off
// again and again for as long as a block comes in each BlockTime. A deadline that is
// further off, for the time between two requests, is left as it is.
func Rated(l net.Listener) net.Listener { return ratedListener{l} }

type ratedListener struct{ net.Listener }

func (l ratedListener) Accept() (net.Conn, error) {
	c, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	return &rated{Conn: c}, nil
}

type rated struct {
	net.Conn
	// inRequest is set while the short deadline is in force, got counts since it was put off.
	inRequest bool
	got       int
}

func (c *rated) SetReadDeadline(t time.Time) error {
	c.inRequest, c.got = !t.IsZero() && time.Until(t) <= BlockTime, 0
	return c.Conn.SetReadDeadline(t)
}

func (c *rated) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	if c.got += n; c.inRequest && c.got >= apiBlock && err == nil {
		c.got = 0
		err = c.Conn.SetReadDeadline(time.Now().Add(BlockTime))
	}
	return n, err
}
