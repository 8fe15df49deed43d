//go:build proof

package cli

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

// TestProofValidated: what the tests of documents and every script, with all their refusals, print
// passes the shipped schemas, open and closed, before a validator that is not ours.
func TestProofValidated(t *testing.T) {
	dir := t.TempDir()
	again := exec.Command(os.Args[0], "-test.run=^(TestResultsAgree|TestDocuments|TestNeedsOfAStoredDraft|TestScripts)$")
	again.Env = append(os.Environ(), documentsIn+"="+dir)
	if out, err := again.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	out, err := exec.Command("/usr/bin/python3", filepath.Join("testdata", "validate.py"), dir, filepath.Join("..", "..", "docs", "schema")).CombinedOutput()
	var sum struct{ Documents, Kinds int }
	if err != nil || json.Unmarshal(out, &sum) != nil || sum.Documents < 600 || sum.Kinds < 20 {
		t.Fatalf("%v: %s", err, out)
	}
	fmt.Printf("documents: %d of %d kinds pass another validator\n", sum.Documents, sum.Kinds)
}
