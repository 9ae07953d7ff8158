package changes

import (
	"encoding/json"
	"errors"
	"io"
	"os"

	"ladle/internal/core/spool"
)

// Walk gives take one record after the other.
type Walk func(take func(Record) error) error

// Kept is records on disk, or in memory while they are few, so that a person can take the time to read them.
type Kept struct{ log *spool.Log }

// NewKept returns a list without records.
func NewKept() *Kept { return &Kept{spool.NewLog(os.TempDir())} }

// Add adds a record.
func (k *Kept) Add(r Record) error {
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return k.log.Append(text)
}

// Walk gives take all records, in the order in which they came.
func (k *Kept) Walk(take func(Record) error) error {
	for reader := k.log.Reader(); ; {
		text, err := reader.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		var r Record
		if err == nil {
			err = json.Unmarshal(text, &r)
		}
		if err == nil {
			err = take(r)
		}
		if err != nil {
			return err
		}
	}
}

// Close frees the memory and disk of the list.
func (k *Kept) Close() error { return k.log.Close() }
