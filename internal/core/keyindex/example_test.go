package keyindex_test

import (
	"fmt"

	"ladle/internal/core/keyindex"
)

// A map counts how often each key comes.
func ExampleMap() {
	var seen keyindex.Map[int]
	for _, key := range []string{"PM-0101", "PM-0102", "PM-0101"} {
		count, _ := seen.Insert(keyindex.HashOf([]byte(key)))
		*count++
	}
	fmt.Println(seen.Len(), "keys,", *seen.Find(keyindex.HashOf([]byte("PM-0101"))), "times the first")
	// Output: 2 keys, 2 times the first
}
