package coredump

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"wraithology/core/event"
	"wraithology/core/fault"
	"wraithology/core/mask"
	"wraithology/core/question"
	"wraithology/core/replay"
)

// The programs make their secrets, so that their texts are not in the binary.
const secretiveC = `#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <map>
#include <string>
#include <vector>
struct Account { std::string user; std::string password; int pin; int depth; };
static std::string made(int n) { return std::string("secret") + "Value" + std::to_string(n); }
static char token[32];
int main(int argc, char **argv) {
  Account a{"ines", made(1), 4711 * argc, 7};
  Account *at = &a;
  std::map<std::string, std::string> headers{{"Authorization", made(2)}, {"Accept", "text"}};
  std::vector<Account> list{a, {"tomas", made(3), 4711 * argc, 8}};
  std::string line = "postgres://ines:" + made(4) + "@host/db";
  strcpy(token, made(5).c_str());
  const char *secret = strdup(made(6).c_str());
  printf("%zu %zu %zu %s\n", headers.size(), list.size(), line.size() + strlen(secret), at->user.c_str());
  fflush(stdout);
  abort();
}
`

const secretiveGo = `package main

import (
	"fmt"
	"os"
)

type account struct {
	User, Password string
	PIN, Depth     int
	Keys           [][]byte
}

var apiKey = made(9)

func made(n int) string { return string([]byte{'s', 'e', 'c', 'r', 'e', 't'}) + fmt.Sprint("Value", n) }

func main() {
	a := &account{User: "ines", Password: made(1), PIN: 4711 * len(os.Args), Depth: 7}
	headers := map[string]string{"Authorization": made(2), "Accept": "text"}
	list := []account{*a, {Password: made(3)}}
	line := "url=postgres://ines:" + made(4) + "@host/db"
	token, secret := made(5), []byte(made(6))
	copied := token
	fmt.Println(len(headers), len(list), len(line), len(token), len(secret), len(copied), a.Depth, len(apiKey))
	panic(fmt.Sprint("password=", made(7)))
}
`

// shown is all that the variables of all frames show, as far as one can go into them.
func shown(t *testing.T, r replay.Recording) string {
	t.Helper()
	var out strings.Builder
	var show func(name string, v replay.Value, depth int)
	show = func(name string, v replay.Value, depth int) {
		out.WriteString(name + " = " + text(v) + "\n")
		if depth > 7 {
			return
		}
		if v.Form() == event.Pointer {
			show("*"+name, v.Deref(), depth+1)
		}
		children, _ := v.Children(replay.Page{Count: 30})
		for _, c := range children {
			show(name+"."+c.Name, c.Value, depth+1)
		}
	}
	threads, err := r.Threads(t.Context(), 0)
	require.NoError(t, err)
	for _, th := range threads {
		frames, err := r.Frames(t.Context(), 0, th.ID)
		require.NoError(t, err)
		for i := range frames {
			list, err := r.Variables(t.Context(), 0, th.ID, i)
			if err != nil {
				continue
			}
			for _, v := range list {
				show(v.Name, v.Value, 0)
			}
		}
	}
	i := r.Info()
	out.WriteString(strings.Join(i.Command, " "))
	if i.Failure != nil {
		out.WriteString(i.Failure.Summary)
	}
	return out.String()
}

// A masked dump shows no secret of C++ and Go programs in any variable, however one goes into it; what is not secret it shows.
func TestMaskedDumps(t *testing.T) {
	t.Parallel()
	for name, make := range map[string]func(dir string) string{
		"C++": func(dir string) string {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "secretive.cc"), []byte(secretiveC), 0o600))
			compile(t, "g++", "-g", "-O0", "-o", filepath.Join(dir, "secretive"), filepath.Join(dir, "secretive.cc"))
			return filepath.Join(dir, "secretive")
		},
		"Go": func(dir string) string {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "main.go"), []byte(secretiveGo), 0o600))
			require.NoError(t, os.WriteFile(filepath.Join(dir, "go.mod"), []byte("module secretive\n\ngo 1.24\n"), 0o600))
			return buildGo(t, dir, "-gcflags=all=-N -l")
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			core, _ := crashOf(t, []string{"GOTRACEBACK=crash"}, make(t.TempDir()), "--password", "secretValue8", "url=postgres://x:secretValue0@y")
			d := openDump(t, core, Options{})
			plain := shown(t, d)
			for _, secret := range []string{"secretValue1", "secretValue2", "secretValue3", "secretValue4", "secretValue5"} {
				assert.True(t, strings.Contains(plain, secret), "the dump has %s", secret)
			}
			r := newMasked(d, mask.Default)
			masked := shown(t, r)
			for line := range strings.Lines(masked) {
				assert.NotContains(t, line, "secretValue")
			}
			for _, known := range []string{"ines", "text", mask.Masked} {
				assert.True(t, strings.Contains(masked, known), known)
			}
			const pin = "18844" // 4711 times the number of arguments
			assert.True(t, strings.Contains(plain, pin))
			assert.False(t, strings.Contains(masked, pin))
		})
	}
}

// What shows bytes as they are is refused, and so are guesses.
func TestMaskedMemory(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "secretive.cc"), []byte(secretiveC), 0o600))
	compile(t, "g++", "-g", "-O0", "-o", filepath.Join(dir, "secretive"), filepath.Join(dir, "secretive.cc"))
	core, _ := crash(t, filepath.Join(dir, "secretive"))
	d := openDump(t, core, Options{})
	r := newMasked(d, mask.Default)
	_, err := r.MemoryAt(t.Context(), 0x1000, 8)
	require.ErrorIs(t, err, fault.Masked)
	_, _, err = r.Holders(t.Context(), 0x6556746572636573, replay.Page{Count: 1}) // eight letters
	require.ErrorIs(t, err, fault.Masked)
	thread, err := r.ThreadOf(0)
	require.NoError(t, err)
	f := frameNamed(t, d, thread, "main")
	for expression, works := range map[string]bool{`a.depth`: true, `a.user == "ines"`: true, `a.password == "secretValue1"`: false, `at.pin == 4711`: false, `cast(4096, "Account")`: false, `a.password.startsWith("s")`: false, `size(list[1].password) == 12`: false} {
		e, err := question.Parse(expression)
		require.NoError(t, err, expression)
		_, err = e.Ask(context.Background(), r, 0, thread, f.Index)
		assert.Equal(t, works, err == nil, "%s: %v", expression, err)
		if _, err := e.Ask(context.Background(), d, 0, thread, f.Index); !strings.Contains(expression, "cast") {
			assert.NoError(t, err, expression)
		}
	}
}

// text writes a value without its parts.
func text(v replay.Value) string {
	if v.State != event.Known {
		return string(v.State)
	}
	return fmt.Sprint(v.Value.Text, " ", v.Int, " ", v.Uint)
}
