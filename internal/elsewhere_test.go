package internal

import (
	"os"
	"testing"

	"golang.org/x/tools/go/packages"
)

// TestTheProgramFitsOtherMachines checks the types of all that goes into the program, for
// processors that households have and this machine may not: of 32 bits, where numbers of
// the kernel are smaller, and of ARM, which lacks its older calls. It does what building
// would find out, in a fraction of the time.
func TestTheProgramFitsOtherMachines(t *testing.T) {
	for _, arch := range []string{"arm", "arm64"} {
		list, err := packages.Load(&packages.Config{
			Mode: packages.NeedName | packages.NeedTypes | packages.NeedSyntax | packages.NeedImports | packages.NeedDeps | packages.NeedTypesSizes | packages.NeedFiles | packages.NeedCompiledGoFiles,
			Env:  append(os.Environ(), "GOARCH="+arch, "CGO_ENABLED=0"),
		}, "cozyshelf/cmd/cozyshelf")
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		packages.Visit(list, nil, func(p *packages.Package) {
			n++
			for _, err := range p.Errors {
				t.Errorf("%s: %v", arch, err)
			}
		})
		if n < 200 {
			t.Errorf("%s: only %d packages were looked at", arch, n)
		}
	}
}
