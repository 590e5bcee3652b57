package http1

// Known is a field that a proxy treats in some way; its zero value is any other.
type Known uint8

// The known fields.
const (
	Other Known = iota

	// Those about one connection only (RFC 9110, 7.6.1).
	Connection
	KeepAliveField
	ProxyConnection
	ProxyAuthenticate
	ProxyAuthorization
	TE
	Trailer
	TransferEncoding
	Upgrade
	HTTP2Settings

	Host
	ContentLength
	AcceptEncoding
	Expect
	Authorization
	SetCookie
	SetCookie2
	Location
	ContentLocation
	Refresh
	AltSvc
	ClearSiteData
	StrictTransportSecurity
	// InferenceHeaderContentLength is of the Open Inference Protocol: the length of the JSON
	// before binary tensors.
	InferenceHeaderContentLength
	LadderKey
	LadderCopy
	LadderCaller
	LadderRequest
	LadderVersion
	// Traceparent is of W3C Trace Context.
	Traceparent
)

// aboutConnection reports whether a field is about one connection only.
func (k Known) aboutConnection() bool { return k >= Connection && k <= HTTP2Settings }

type name struct {
	lower string
	known Known
}

// names are the known fields by the length of their names.
var names = func() (by [32][]name) {
	for lower, k := range map[string]Known{
		"host":                            Host,
		"connection":                      Connection,
		"keep-alive":                      KeepAliveField,
		"proxy-connection":                ProxyConnection,
		"proxy-authenticate":              ProxyAuthenticate,
		"proxy-authorization":             ProxyAuthorization,
		"te":                              TE,
		"trailer":                         Trailer,
		"transfer-encoding":               TransferEncoding,
		"upgrade":                         Upgrade,
		"http2-settings":                  HTTP2Settings,
		"content-length":                  ContentLength,
		"accept-encoding":                 AcceptEncoding,
		"expect":                          Expect,
		"authorization":                   Authorization,
		"set-cookie":                      SetCookie,
		"set-cookie2":                     SetCookie2,
		"location":                        Location,
		"content-location":                ContentLocation,
		"refresh":                         Refresh,
		"alt-svc":                         AltSvc,
		"clear-site-data":                 ClearSiteData,
		"strict-transport-security":       StrictTransportSecurity,
		"inference-header-content-length": InferenceHeaderContentLength,
		"inner-ladder-key":                LadderKey,
		"inner-ladder-copy":               LadderCopy,
		"inner-ladder-caller":             LadderCaller,
		"inner-ladder-request":            LadderRequest,
		"inner-ladder-version":            LadderVersion,
		"traceparent":                     Traceparent,
	} {
		by[len(lower)] = append(by[len(lower)], name{lower, k})
	}
	return by
}()

// known says which field has a name.
func known(b []byte) Known {
	if len(b) >= len(names) {
		return Other
	}
	for _, n := range names[len(b)] {
		if equalFold(b, n.lower) {
			return n.known
		}
	}
	return Other
}
