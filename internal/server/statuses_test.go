package server_test

import (
	"flag"
	"fmt"
	"os"
	"testing"

	"eagerwindow/internal/harbourtest"
)

// Each answer is held against the description as it is given (harbourtest). When all tests have run, what is described must have been met.
func TestMain(m *testing.M) {
	code := harbourtest.Main(m)
	whole := flag.Lookup("test.run").Value.String() == "" && flag.Lookup("test.skip").Value.String() == ""
	if list := harbourtest.Unseen(); code == 0 && whole && list != nil {
		fmt.Printf("--- FAIL: the description promises what no test was answered with: %q\n", list)
		code = 1
	}
	os.Exit(code)
}
