// Command secrets handles texts that must not get into a recording. The source does not contain them.
package main

import (
	"fmt"
	"os"
	"strings"
)

type config struct {
	User     string
	Password string
	APIKey   []byte
	Depth    int
}

type pin string

func value(n int) (secret string) { return strings.ToUpper("secret") + fmt.Sprint("Value", n) }

func login(user, password string) (token string, err error) {
	token = "tok-" + user + "-" + value(1)
	return token, nil
}

func main() {
	c := &config{User: "ines", Password: value(2), APIKey: []byte(value(3)), Depth: 7}
	c.Password = value(4)
	token, err := login(c.User, c.Password)
	headers := map[string]string{"Authorization": value(5), "Accept": "text"}
	headers["Cookie"] = value(6)
	any := map[string]any{"password": value(7), "n": 1}
	line := "url=postgres://ines:" + value(8) + "@host/db"
	auth := "Bearer " + value(9) + "abc"
	p := pin(value(10))
	secret := []string{value(11)}
	copied := *c
	list := []config{copied, {Password: value(12)}}
	func() { c.Password += secret[0]; secret[0] = value(13) }()
	fmt.Println(len(token), err, len(headers), len(any), len(line), len(auth), len(p), len(list), len(os.Args)) // end
	if len(os.Args) > 1 {
		fmt.Println("password: " + value(14))
		panic("token=" + value(15))
	}
}
