// Package http1 reads and writes messages of HTTP/1.1 as a proxy must: their heads
// without copying them, their bodies by one framing that leaves no doubt, and of their
// fields only those that are not about one connection (RFC 9110 and 9112).
//
// It is stricter than most servers. A proxy stands between two parsers, and whatever
// they could read in two ways is refused: two lengths, a length beside a transfer coding,
// white space before a colon, lines that end without a carriage return, folded lines.
package http1
