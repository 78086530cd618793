package question

import (
	"errors"
	"fmt"
	"reflect"
	"strings"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
)

// beginning is a text of which only the beginning is known, and the size. It answers what follows from these, and no
// more.
type beginning struct {
	text  string
	whole int64 // bytes
}

var beginningType = types.NewObjectType("beginning of a text", traits.SizerType)

func (b beginning) unknown() ref.Val { return types.NewErr("%s", b.why()) }

func (b beginning) why() string {
	return fmt.Sprintf("only the first %d of the text's %d bytes are known", len(b.text), b.whole)
}

// ConvertToNative implements ref.Val.
func (b beginning) ConvertToNative(reflect.Type) (any, error) {
	return nil, errors.New("the beginning of a text has no plain form")
}

// ConvertToType implements ref.Val.
func (b beginning) ConvertToType(ref.Type) ref.Val { return b.unknown() }

// Equal implements ref.Val.
func (b beginning) Equal(other ref.Val) ref.Val {
	s, ok := other.(types.String)
	if !ok || int64(len(s)) != b.whole || !strings.HasPrefix(string(s), b.text) {
		return types.False
	}
	return b.unknown()
}

// Type implements ref.Val.
func (b beginning) Type() ref.Type { return beginningType }

// Value implements ref.Val.
func (b beginning) Value() any { return b.text + "…" }

// Size implements traits.Sizer: bytes, as the characters of the rest are not known.
func (b beginning) Size() ref.Val { return types.Int(b.whole) }
