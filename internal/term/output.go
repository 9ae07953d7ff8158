package term

import "os"

// Stdout is standard output, which remembers when it could not be written to.
var Stdout = &Output{file: os.Stdout}

// Output is a file that remembers its first error.
type Output struct {
	file *os.File
	err  error
}

// NewOutput returns an output to file.
func NewOutput(file *os.File) *Output { return &Output{file: file} }

// Write writes, and remembers the error.
func (o *Output) Write(b []byte) (int, error) {
	n, err := o.file.Write(b)
	if o.err == nil {
		o.err = err
	}
	return n, err
}

// Fd is the number of the file.
func (o *Output) Fd() uintptr { return o.file.Fd() }

// Err is the first error of writing.
func (o *Output) Err() error { return o.err }
