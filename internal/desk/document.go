package desk

import (
	"errors"

	"ambertray/internal/profile"
)

// A Document says what a JSON document is, and in which version of its form.
// Keys are added without a new version; a version changes when one is taken out
// or means something else.
type Document struct {
	// Kind is the command that prints it, and the version: load 1.
	Kind string `json:"document"`
}

func document(kind string) Document { return Document{kind + " 1"} }

// A FailedAnswer is the document of a command that ends with an error.
type FailedAnswer struct {
	Document
	// Status is that with which the program ends.
	Status int    `json:"status"`
	Error  string `json:"error"`
	// Questions are what waits for the person, and Cautions what there was to look at.
	Questions []AskedFor        `json:"questions,omitempty"`
	Cautions  []profile.Finding `json:"cautions,omitempty"`
}

// AskedFor is a question in a document.
type AskedFor struct {
	Code     Code     `json:"code"`
	Column   string   `json:"column,omitempty"`
	Ask      string   `json:"ask"`
	Evidence []string `json:"evidence,omitempty"`
	Answer   string   `json:"answer"`
	// Options are those that would answer it.
	Options []string `json:"options,omitempty"`
}

// Failure is the document of an error.
func Failure(err error, status int) *FailedAnswer {
	a := &FailedAnswer{Document: document("error"), Status: status, Error: err.Error()}
	var open *OpenQuestions
	if errors.As(err, &open) {
		for _, q := range open.Questions {
			x := AskedFor{Code: q.Code, Column: q.Column, Ask: q.Ask, Evidence: q.Evidence, Answer: q.Answer}
			for _, c := range q.Choices {
				x.Options = append(x.Options, c.Option)
			}
			a.Questions = append(a.Questions, x)
		}
	}
	var strict *Strict
	if errors.As(err, &strict) {
		a.Cautions = strict.Cautions
	}
	return a
}
