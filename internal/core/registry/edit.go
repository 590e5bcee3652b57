package registry

import (
	"fmt"
	"strings"

	"innerladder/internal/core/fault"
	"innerladder/internal/core/naming"
)

// Edit says what is to change; absent members stay.
type Edit struct {
	Note *string `json:"note,omitempty" description:"of a version"`
	// Description and Owner are of a model.
	Description *string `json:"description,omitempty" description:"of a model"`
	Owner       *string `json:"owner,omitempty" description:"of a model"`
	// Name and Project rename and move a model.
	Name    *string `json:"name,omitempty" description:"of a model; while nobody signed for it, ran or called it"`
	Project *string `json:"project,omitempty" description:"of a model, which moves with its runs; needs manage in both"`
	// AddTags and RemoveTags change the tags; SetProperties and RemoveProperties the
	// properties.
	AddTags          []string          `json:"add_tags,omitempty"`
	RemoveTags       []string          `json:"remove_tags,omitempty"`
	SetProperties    map[string]string `json:"set_properties,omitempty"`
	RemoveProperties []string          `json:"remove_properties,omitempty"`
	Reason           string            `json:"reason,omitempty"`
}

// Check refuses an edit that changes nothing, and names that cannot be.
func (e Edit) Check() error {
	if e.Note == nil && e.Description == nil && e.Owner == nil && e.Name == nil && e.Project == nil &&
		len(e.AddTags)+len(e.RemoveTags)+len(e.SetProperties)+len(e.RemoveProperties) == 0 {
		return fault.New(fault.Invalid, "edit.nothing", "nothing is to change").In("body").
			Do("say what, such as a note or a tag")
	}
	if e.Name != nil {
		if err := naming.Check("name", *e.Name); err != nil {
			return err
		}
	}
	for _, tag := range e.AddTags {
		if err := naming.CheckTag("add_tags", tag); err != nil {
			return err
		}
	}
	for name := range e.SetProperties {
		if err := naming.CheckTag("set_properties", name); err != nil {
			return err
		}
	}
	return nil
}

// Sentence says what an edit changed.
func (e Edit) Sentence(subject string) string {
	var parts []string
	say := func(there bool, what string, args ...any) {
		if there {
			parts = append(parts, fmt.Sprintf(what, args...))
		}
	}
	say(e.Note != nil, "a new note")
	say(e.Description != nil, "a new description")
	if e.Owner != nil {
		say(true, "the owner %s", *e.Owner)
	}
	if e.Name != nil {
		say(true, "the name %s", *e.Name)
	}
	if e.Project != nil {
		say(true, "the project %s", *e.Project)
	}
	say(len(e.AddTags) > 0, "the tag %s", strings.Join(e.AddTags, ", "))
	say(len(e.RemoveTags) > 0, "no tag %s any more", strings.Join(e.RemoveTags, ", "))
	say(len(e.SetProperties)+len(e.RemoveProperties) > 0, "other properties")
	return subject + " got " + strings.Join(parts, ", ") + "."
}
