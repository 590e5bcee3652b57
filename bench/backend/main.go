// Command backend is the cheapest model server of the Open Inference Protocol that can
// be: it answers every request with the same bytes, so that a bench measures what stands
// in front of it.
package main

import (
	"flag"
	"fmt"
	"log"
	"net"
	"strings"

	"github.com/valyala/fasthttp"
)

func main() {
	listen := flag.String("listen", "127.0.0.1:0", "`ADDRESS`")
	version := flag.String("version", "1", "`TEXT` that it answers as its version")
	flag.Parse()
	l, err := net.Listen("tcp", *listen)
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println("http://" + l.Addr().String())
	answer := []byte(`{"model_name":"heat-demand","model_version":"` + *version +
		`","outputs":[{"name":"demand_mw","shape":[1],"datatype":"FP64","data":[1.0625]}]}`)
	metadata := []byte(`{"name":"heat-demand","platform":"bench","inputs":[{"name":"outdoor_c","datatype":"FP64","shape":[-1]}],"outputs":[{"name":"demand_mw","datatype":"FP64","shape":[-1]}]}`)
	server := &fasthttp.Server{
		NoDefaultServerHeader: true, NoDefaultDate: true, MaxRequestBodySize: 64 << 20,
		Handler: func(c *fasthttp.RequestCtx) {
			c.SetContentType("application/json")
			switch path := string(c.Path()); {
			case strings.HasSuffix(path, "/infer"):
				c.SetBody(answer)
			case strings.HasSuffix(path, "/ready"):
				c.SetBodyString(`{"ready":true}`)
			default:
				c.SetBody(metadata)
			}
		},
	}
	log.Fatal(server.Serve(l))
}
