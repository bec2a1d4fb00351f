package desk

// A Document says what a JSON document is, and in which version of its form.
// Keys are added without a new version; a version changes when one is taken out
// or means something else.
type Document struct {
	// Kind is the command that prints it, and the version: load 1.
	Kind string `json:"document"`
}

func document(kind string) Document { return Document{kind + " 1"} }
