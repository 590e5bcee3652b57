package api

import (
	"encoding/json"
	"os"
	"testing"
)

func TestX(t *testing.T) {
	b, err := Document()
	if err != nil {
		t.Fatal(err)
	}
	var v any
	_ = json.Unmarshal(b, &v)
	os.WriteFile("/tmp/openapi.json", b, 0o644)
}
