package registry

import (
	"strconv"

	"innerladder/internal/core/ensemble"
	"innerladder/internal/core/signature"
)

// The formats that are recognised from the bytes of a file.
const (
	FormatONNX        = "onnx"
	FormatPMML        = "pmml"
	FormatSafetensors = "safetensors"
	FormatJSON        = "json"
	FormatPickle      = "pickle"
	FormatZip         = "zip"
	FormatTar         = "tar"
	FormatTarGz       = "tar.gz"
	FormatEnsemble    = "ensemble"
	FormatUnknown     = "unknown"
)

// Contents is what was read off the bytes of a file. Reading never runs anything.
type Contents struct {
	Format string `json:"format" enum:"onnx,pmml,safetensors,json,pickle,zip,tar,tar.gz,ensemble,unknown"`
	// Unsafe says why loading the file can do harm; empty when nothing is known against
	// it.
	Unsafe string `json:"unsafe,omitempty" description:"why loading the file may run code; empty when nothing is known against it"`
	// Facts are named things that the file says about itself.
	Facts []Fact `json:"facts,omitempty"`
	// Tensors are the weights in the file, the first of them; TensorCount counts all and
	// Values the numbers in them.
	Tensors     []signature.Tensor `json:"tensors,omitempty"`
	TensorCount int                `json:"tensor_count,omitempty"`
	Values      int64              `json:"values,omitempty" description:"numbers in all tensors together"`
	// Files are what an archive holds, the first of them; FileCount counts all and
	// Expanded is how large they are together.
	Files     []PackedFile `json:"files,omitempty"`
	FileCount int          `json:"file_count,omitempty"`
	Expanded  int64        `json:"expanded,omitempty" description:"bytes of all packed files together"`
	// Signature is what the file declares to take and to give.
	Signature *signature.Signature `json:"signature,omitempty"`
	// Ensemble is what a version is made of that is made of others.
	Ensemble *ensemble.Plan `json:"ensemble,omitempty"`
	// Remarks say what could not be read, and why.
	Remarks []string `json:"remarks,omitempty"`
}

// Fact is one thing that a file says about itself.
type Fact struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// PackedFile is one file in an archive.
type PackedFile struct {
	Name string `json:"name"`
	Size int64  `json:"size" description:"bytes, unpacked"`
}

// Say adds a fact when there is something to say.
func (c *Contents) Say(name, value string) {
	if value != "" && value != "0" {
		c.Facts = append(c.Facts, Fact{name, value})
	}
}

// SayNumber adds a fact when the number is not 0.
func (c *Contents) SayNumber(name string, n int64) { c.Say(name, strconv.FormatInt(n, 10)) }

// Card is the model card of a version: Markdown, with YAML front matter when there is
// some.
type Card struct {
	Text string `json:"text" description:"Markdown, as it was given"`
	// Facts are the front matter, flat.
	Facts    []Fact        `json:"facts,omitempty"`
	Sections []CardSection `json:"sections,omitempty"`
	Licence  string        `json:"licence,omitempty"`
}

// CardSection is a part of a card under one heading.
type CardSection struct {
	// Kind is what the section is about, when its title says so in a way that we know.
	Kind  string `json:"kind,omitempty" enum:"intended_use,data,limits,licence,contact"`
	Title string `json:"title"`
	Body  string `json:"body,omitempty" description:"Markdown"`
}
