// Package section keeps a part of a document that a measurement writes, between two
// comments, so that what stands around it can be written by hand or by another one.
package section

import (
	"fmt"
	"os"
	"strings"
)

func ends(name, by string) (begin, end string) {
	return fmt.Sprintf("<!-- %s: written by %s -->\n", name, by), fmt.Sprintf("<!-- end of %s -->", name)
}

// Find returns the section of a name in a document, with its comments, and whether
// it is there. by is the command that writes it.
func Find(document, name, by string) (string, bool) {
	begin, end := ends(name, by)
	from := strings.Index(document, begin)
	if from < 0 {
		return "", false
	}
	to := strings.Index(document[from:], end)
	if to < 0 {
		return "", false
	}
	return document[from : from+to+len(end)], true
}

// Write puts a text into the section of a name in a file. It is an error if the
// file has none.
func Write(path, name, by, text string) error {
	b, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	old, there := Find(string(b), name, by)
	if !there {
		return fmt.Errorf("%s has no place for %s", path, name)
	}
	begin, end := ends(name, by)
	return os.WriteFile(path, []byte(strings.Replace(string(b), old, begin+"\n"+strings.TrimSpace(text)+"\n\n"+end, 1)), 0o644)
}
