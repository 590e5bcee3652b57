package api

import (
	"innerladder/internal/core/access"
	"innerladder/internal/core/replica"
	"innerladder/internal/wire"
)

// runnerOperations are the routes about what runs on the service's machine.
func runnerOperations() []operation {
	return []operation{
		op("GET", "/gateway", "gatewayAddress", "Say how callers reach the gateway", access.Read, 200,
			func(c call, _ *struct{}) (wire.GatewayAddress, error) { return c.app.Traffic.Gateway(), nil }),
		op("GET", "/runner-templates", "listTemplates", "List the command lines that may serve versions here",
			access.Place, 200, func(c call, in *pageIn) (wire.Listed[replica.Template], error) {
				all, err := c.app.Traffic.Templates(c, c.by)
				return partOf(*in, all, err, func(t replica.Template) string { return t.Name })
			}),
		op("PUT", "/runner-templates/{name}", "putTemplate", "Allow a command line to serve versions here",
			access.Administer, 200, func(c call, in *wire.PutTemplate) (replica.Template, error) {
				return c.app.Traffic.PutTemplate(c, c.by, *in)
			}),
		op("DELETE", "/runner-templates/{name}", "removeTemplate", "Allow a command line no more",
			access.Administer, 200, func(c call, in *struct {
				Name string `uri:"name" path:"name" json:"-"`
				becauseIn
			},
			) (replica.Template, error) {
				return c.app.Traffic.RemoveTemplate(c, c.by, in.Name, in.Reason)
			}),
		op("GET", "/running", "listRunning", "List the versions that run on the service's machine", access.Read, 200,
			func(c call, in *struct {
				pageIn
				Version string `query:"version" description:"only of this version"`
			},
			) (wire.Listed[wire.Running], error) {
				all, err := c.app.Traffic.Running(c, c.by, in.Version)
				return partOf(in.pageIn, all, err, func(r wire.Running) string {
					return r.Version + " " + r.Environment
				})
			}),
		op("GET", "/running/{environment}/{ref}/{replica}/log", "runningLog",
			"Show the last lines that a replica wrote", access.Place, 200, func(c call, in *struct {
				refIn
				Environment string `uri:"environment" path:"environment"`
				Replica     int    `uri:"replica" path:"replica" minimum:"1"`
				Lines       int    `query:"lines" minimum:"1" maximum:"5000" default:"50" description:"lines at most"`
			},
			) (wire.RunningLog, error) {
				return c.app.Traffic.RunningLog(c, c.by, in.Ref, in.Environment, in.Replica, in.Lines)
			}),
	}
}
