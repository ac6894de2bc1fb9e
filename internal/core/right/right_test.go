package right

import (
	"slices"
	"strings"
	"testing"
)

func TestRightsAreReadOnceAndInOrder(t *testing.T) {
	got, err := Read([]string{"metrics", "read-figures", "metrics"})
	if err != nil || !slices.Equal(got, []Right{ReadFigures, Metrics}) {
		t.Errorf("%v, %v", got, err)
	}
	for _, bad := range []string{"", "READ-FIGURES", "all", "metrics,read-figures"} {
		if got, err := Read([]string{"metrics", bad}); err == nil || !strings.Contains(err.Error(), Words(All)) {
			t.Errorf("%q: %v, %v", bad, got, err)
		}
	}
	if got, err := Read(nil); len(got) != 0 || err != nil {
		t.Errorf("%v, %v", got, err)
	}
}
