package api

import (
	"fmt"
	"net/http"
	"reflect"
	"strconv"
	"strings"

	"innerladder/internal/core/access"
	"innerladder/internal/wire"

	"github.com/gofiber/fiber/v3"
	"github.com/swaggest/openapi-go/openapi31"
)

// tags says what the routes that begin with a word are about.
var tags = map[string]string{
	"activity":          "what happened, as people read it",
	"alerts":            "what is wrong, and who looks after it",
	"audit":             "the record, its searches and its proof",
	"backup":            "everything that is kept, as one archive",
	"catalogue":         "versions found by what is known of them",
	"collect":           "files that nothing needs any more",
	"comments":          "what people say about what happened",
	"data-sets":         "data that versions were made from",
	"deliveries":        "what was sent to webhooks",
	"endpoints":         "where callers ask, who answers them, and how well",
	"environments":      "where versions are placed",
	"events":            "what happens, as it happens",
	"evidence":          "reports about versions",
	"explain":           "why a version predicts what it does",
	"gateway":           "where callers reach the endpoints",
	"glossary":          "what the words mean",
	"incidents":         "the page about each rollback",
	"jobs":              "work that takes long",
	"lineup":            "versions side by side",
	"me":                "what is one's own",
	"models":            "models and their versions",
	"now":               "all endpoints at a glance",
	"people":            "accounts of persons and robots, and their roles",
	"permissions":       "what roles are made of",
	"placements":        "versions at the addresses of their model servers",
	"plans":             "how rollouts move",
	"projects":          "who sees what, and the ladder that its versions climb",
	"promotions":        "a version's way up a rung, and who signed",
	"refusals":          "what the gateway turned away",
	"registrations":     "what a registration would do",
	"requests":          "single requests that were answered",
	"requirement-kinds": "what gates can demand",
	"roles":             "named sets of permissions",
	"rollouts":          "moves of an endpoint to another version",
	"runner-templates":  "commands that the runner may start",
	"running":           "processes that the service runs",
	"runs":              "trainings that versions come from",
	"schedules":         "scoring again and again",
	"session":           "signing in and out",
	"settings":          "mail, keys, and how long what grows is kept",
	"signing-keys":      "keys by which people sign for themselves",
	"tokens":            "what lets programs in",
	"trace":             "what something was made from, and what was made from it",
	"try":               "a version asked once",
	"uploads":           "files that come in pieces",
	"versions":          "versions with their files and what is known of them",
	"webhooks":          "who is told elsewhere",
	"welcome":           "links that let people in for the first time",
}

// described says what an operation needs, in a sentence.
func (o operation) described() string {
	switch {
	case o.console:
		return "For whoever is signed in to the console."
	case o.permission == "":
		return "Needs no sign-in."
	case o.permission == access.SignedIn:
		return "For whoever is signed in."
	case o.permission == access.Own:
		return "For whoever is signed in, about their own things; not with a token that is narrowed down."
	case o.everywhere, o.permission == access.Administer:
		return fmt.Sprintf("Needs the permission %q for the whole service.", o.permission)
	}
	return fmt.Sprintf("Needs the permission %q in the project that it is about.", o.permission)
}

// refused are the ways in which a call is refused, each with what it means.
var refused = map[int]string{
	http.StatusUnprocessableEntity:   "What was sent cannot be: the field, and what to do instead, are said.",
	http.StatusUnauthorized:          "Nobody is signed in, or the token is unknown, expired or ended.",
	http.StatusForbidden:             "Whoever is signed in may not do that.",
	http.StatusNotFound:              "There is no such thing, or none that whoever is signed in may see.",
	http.StatusConflict:              "It cannot be done as things stand.",
	http.StatusPreconditionFailed:    "It was changed meanwhile: If-Match names an earlier state.",
	http.StatusRequestEntityTooLarge: "The body is too large.",
	http.StatusUnsupportedMediaType:  "The body is of a media type that is not taken here.",
	http.StatusTooManyRequests:       "Too often; Retry-After says when again.",
}

// nameOf is what the answer of a refusal is called in the document.
func nameOf(status int) string {
	return strings.ReplaceAll(http.StatusText(status), " ", "")
}

// refusals are the answers to calls that are refused.
func refusals() map[string]openapi31.ResponseOrReference {
	out := map[string]openapi31.ResponseOrReference{}
	for status, means := range refused {
		out[nameOf(status)] = openapi31.ResponseOrReference{Response: &openapi31.Response{
			Description: means,
			Content: map[string]openapi31.MediaType{
				wire.ProblemType: {Schema: map[string]any{"$ref": "#/components/schemas/Problem"}},
			},
		}}
	}
	return out
}

// refuses are the statuses with which an operation may refuse.
func (o operation) refuses() []int {
	out := []int{http.StatusUnprocessableEntity}
	if o.permission != "" {
		out = append(out, http.StatusUnauthorized, http.StatusForbidden)
	} else {
		out = append(out, http.StatusTooManyRequests)
	}
	if reflect.TypeOf(o.in).Elem().NumField() > 0 { // what is named may not be there
		out = append(out, http.StatusNotFound)
	}
	if o.method != fiber.MethodGet {
		out = append(out, http.StatusConflict)
	}
	if o.method == fiber.MethodPut || o.method == fiber.MethodPatch {
		out = append(out, http.StatusPreconditionFailed)
	}
	if o.takes != "" || hasBody(o.in) {
		out = append(out, http.StatusRequestEntityTooLarge, http.StatusUnsupportedMediaType)
	}
	return out
}

// complete adds to the description of an operation what it needs and how it refuses.
func (o operation) complete(d *openapi31.Operation) {
	switch {
	case o.permission == "":
		d.Security = []map[string][]string{{}}
	case o.console:
		d.Security = []map[string][]string{{"session": {}}}
	default:
		d.Security = []map[string][]string{{"token": {}}, {"session": {}}}
	}
	if o.permission != "" {
		d.WithMapOfAnythingItem("x-permission", o.permission)
	}
	if o.everywhere || o.permission == access.Administer {
		d.WithMapOfAnythingItem("x-permission-for", "the whole service")
	}
	if o.takes != "" {
		d.WithRequestBody(openapi31.RequestBodyOrReference{RequestBody: &openapi31.RequestBody{
			Content: map[string]openapi31.MediaType{
				o.takes: {Schema: map[string]any{"type": "string", "format": "binary"}},
			},
		}})
	}
	for _, status := range o.refuses() {
		d.ResponsesEns().WithMapOfResponseOrReferenceValuesItem(strconv.Itoa(status), openapi31.ResponseOrReference{
			Reference: &openapi31.Reference{Ref: "#/components/responses/" + nameOf(status)},
		})
	}
}
