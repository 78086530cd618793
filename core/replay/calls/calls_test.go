package calls

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestMethodsAndLiteralsByTheirNames(t *testing.T) {
	t.Parallel()
	for name, want := range map[string]bool{
		"main.dock": false, "main.(*quay).dock": true, "main.quay.dock": true, "example.com/gannet/berth.(*Harbour).Assign": true, "example.com/gannet/berth.Assign": false,
		"main.dock.func1": false, "main.(*quay).dock.func2": false, "main.quay.dock.func1": false, "main.(*Set[...]).add": true, "main.init.0": false, "main.init": false,
		"example.com/v2.quay.funcs": true, "main.(*quay).dock-fm": false, "main.mapped[...]": false, "": false,
	} {
		assert.Equal(t, want, isMethod(name), name)
	}
	for name, want := range map[string]string{"main.dock": "main", "example.com/gannet/berth.(*Harbour).Assign": "example.com/gannet/berth", "gopkg.in/yaml%2ev3.Unmarshal": "gopkg.in/yaml%2ev3", "plain": "plain"} {
		assert.Equal(t, want, PackageOf(name), name)
	}
}
