// Package notice decides whom an entry of the record reaches, about what, and how: each
// person chooses, and nobody is told what they may not see or did themselves.
package notice

import (
	"slices"
	"strings"

	"innerladder/internal/core/access"
	"innerladder/internal/core/fault"
	"innerladder/internal/core/record"
)

// Topic is what a notice is about.
type Topic string

// The topics, the most pressing first: when an entry is about several, the first counts.
const (
	Mention Topic = "mention"
	Review  Topic = "review"
	Answer  Topic = "answer"
	Comment Topic = "comment"
	Alert   Topic = "alert"
	Split   Topic = "split"
	Version Topic = "version"
	Job     Topic = "job"
)

// Channel is a way to reach someone.
type Channel string

// The channels.
const (
	Inbox Channel = "inbox"
	Mail  Channel = "mail"
)

// Described is a topic with what it is about.
type Described struct {
	Topic Topic  `json:"topic"`
	What  string `json:"what"`
}

// Topics lists the topics.
func Topics() []Described {
	return []Described{
		{Mention, "somebody writes @you"},
		{Review, "a promotion waits for you: asked, handed over, or once more"},
		{Answer, "your promotion is signed, carried out, refused or withdrawn"},
		{Comment, "somebody comments on what you did, or after you"},
		{Alert, "an alert is raised in a project of yours"},
		{Split, "the split of an endpoint changes"},
		{Version, "a version is registered"},
		{Job, "a turn of a schedule of yours has failed for good"},
	}
}

// Choices say by which channels each topic reaches someone; a topic that is not there
// does not.
type Choices map[Topic][]Channel

// Default is what reaches those who have not chosen.
func Default() Choices {
	return Choices{Mention: {Inbox, Mail}, Review: {Inbox, Mail}, Job: {Inbox, Mail}}
}

// Check refuses topics and channels that there are not.
func (c Choices) Check() error {
	for t, channels := range c {
		if !slices.ContainsFunc(Topics(), func(d Described) bool { return d.Topic == t }) {
			var names []string
			for _, d := range Topics() {
				names = append(names, string(d.Topic))
			}
			return fault.New(fault.Invalid, "notice.topic", "%q is no topic", t).In("choices").
				Do("use some of %s", strings.Join(names, ", "))
		}
		for _, ch := range channels {
			if ch != Inbox && ch != Mail {
				return fault.New(fault.Invalid, "notice.channel", "%q is no way to reach someone", ch).In("choices").
					Do("use inbox, mail, or neither")
			}
		}
	}
	return nil
}

// Reader is someone who may be told.
type Reader struct {
	Name    string
	Rights  access.Rights
	Choices Choices
}

// Told is one person whom an entry reaches.
type Told struct {
	Name     string
	Topic    Topic
	Channels []Channel
}

// For decides whom an entry reaches. involved says whom it concerns by topic beyond what
// the entry says itself: who asked, who commented before.
func For(e record.Entry, involved map[Topic][]string, readers []Reader) []Told {
	mentioned := record.Mentions(e.Reason)
	var out []Told
	for _, r := range readers {
		if r.Name == e.Actor || !r.Rights.May(access.Read, e.Project) {
			continue
		}
		for _, t := range about(e, r, mentioned, involved) {
			if channels := r.Choices[t]; len(channels) > 0 {
				out = append(out, Told{r.Name, t, channels})
				break
			}
		}
	}
	return out
}

// about lists the topics under which an entry concerns someone, the most pressing first.
func about(e record.Entry, r Reader, mentioned []string, involved map[Topic][]string) []Topic {
	var out []Topic
	add := func(t Topic, on bool) {
		if on {
			out = append(out, t)
		}
	}
	add(Mention, slices.Contains(mentioned, r.Name))
	add(Review, slices.Contains(involved[Review], r.Name))
	add(Answer, slices.Contains(involved[Answer], r.Name))
	add(Comment, slices.Contains(involved[Comment], r.Name))
	add(Alert, e.Kind == "alert.raised")
	add(Split, e.Kind == "split.made")
	add(Version, e.Kind == "version.registered")
	add(Job, slices.Contains(involved[Job], r.Name))
	return out
}

// Concerns reports whether an entry could reach anyone at all: most reach nobody, and
// reading who there is would be in vain.
func Concerns(e record.Entry, involved map[Topic][]string) bool {
	switch e.Kind {
	case "alert.raised", "split.made", "version.registered":
		return true
	}
	return len(involved) > 0 || strings.Contains(e.Reason, "@")
}

// Unreached lists who a text mentions without effect: people that there are not, or who
// may not see what it is about.
func Unreached(text, project string, readers []Reader) []string {
	var out []string
	for _, name := range record.Mentions(text) {
		if !slices.ContainsFunc(readers,
			func(r Reader) bool { return r.Name == name && r.Rights.May(access.Read, project) }) {
			out = append(out, name)
		}
	}
	return out
}
