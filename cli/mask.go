package cli

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"wraithology/api"
	"wraithology/core/mask"
)

// maskCommand shows or sets what is secret in a case.
func (a *app) maskCommand() *cobra.Command {
	var rules mask.Rules
	var reset bool
	c := &cobra.Command{
		Use: "mask CASE [RULE...]", Short: "Show, or set, what is masked in a case",
		Long: `Show what is masked in a case, or set other rules; its evidence is then indexed again.

A rule is ON:MATCH, where ON is name (a variable or parameter), field (of a struct, or the key of a map), attribute (of a span,
or a field of a log), header (of HTTP or mail), type or text. MATCH of text is a regular expression (RE2), of which the first
group is masked, or all that matches; all others are names in which * stands for any text. A rule without ON: is about names,
fields and attributes.

By default these are masked: what is named like a password, secret, token, key, cookie, authorization, card number, PIN; and in
texts, values after such names, authorization headers, tokens, private keys, passwords in URLs, numbers of payment cards.`,
		Example: "  wraith case mask shallow-berth licence header:X-Pilot 'text:GS-\\d+' --except tokenBucket",
		Args:    args(1, 201, "CASE [RULE...]"),
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.client()
			if err != nil {
				return err
			}
			sets := len(args) > 1 || reset || c.Flags().Changed("except") || c.Flags().Changed("without-defaults")
			if !sets {
				out, err := s.Mask(c.Context(), args[0])
				if err != nil {
					return err
				}
				return a.print(out, func(w io.Writer) { fmt.Fprintf(w, "masked in %s: %s\n", args[0], plain(out.String())) })
			}
			for _, text := range args[1:] {
				list, err := mask.ParseRule(text)
				if err != nil {
					return err
				}
				rules.List = append(rules.List, list...)
			}
			out, err := s.SetMask(c.Context(), args[0], rules)
			if err != nil {
				return err
			}
			return a.print(out, func(w io.Writer) { a.saysMask(w, args[0], out) })
		},
	}
	c.Flags().StringArrayVar(&rules.Except, "except", nil, "name that is not masked, in which * stands for any text; may be repeated")
	c.Flags().BoolVar(&rules.WithoutDefaults, "without-defaults", false, "mask by the given rules alone")
	c.Flags().BoolVar(&reset, "reset", false, "mask by the defaults alone")
	return c
}

func (a *app) saysMask(w io.Writer, name string, m api.Masking) {
	fmt.Fprintf(w, "masked in %s: %s; %s being indexed again\n", name, plain(m.String()), counted(m.Evidence, "piece")+" of evidence")
}
