// Package core is the room of the computation. Its packages decide and measure; they
// know nothing of HTTP, SQL, files, flags, logging, goroutines or the clock. What they
// cannot know, they are handed.
package core
