// Package seeded gives tests random numbers that can be had again.
package seeded

import (
	"hash/fnv"
	"math/rand/v2"
	"os"
	"strconv"
	"testing"
)

// variable names the environment variable with the seed: a number, or "random" for one that nobody chose.
const variable = "LADLE_SEED"

// Rand returns random numbers that depend on the seed and on the name of the test only. The seed is logged, so that a
// test that fails says how to repeat it. Without a seed in the environment it is 1, the same for everybody.
func Rand(t testing.TB) *rand.Rand {
	t.Helper()
	seed := uint64(1)
	switch word := os.Getenv(variable); word {
	case "":
	case "random":
		seed = rand.Uint64()
	default:
		n, err := strconv.ParseUint(word, 10, 64)
		if err != nil {
			t.Fatalf("%s is %q, which is neither a number nor random", variable, word)
		}
		seed = n
	}
	t.Logf("random numbers of %s=%d", variable, seed)
	name := fnv.New64a()
	name.Write([]byte(t.Name()))
	return rand.New(rand.NewPCG(seed, name.Sum64()))
}

// Rounds returns n, or an eighth of it, at least 1, in a short test run.
func Rounds(n int) int {
	if testing.Short() {
		return max(1, n/8)
	}
	return n
}
