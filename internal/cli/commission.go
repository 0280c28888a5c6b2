package cli

import (
	"net/http"
	"net/url"

	"github.com/spf13/cobra"

	"hen-roost/internal/service/life"
)

func (a *app) commission() *cobra.Command {
	var administrator, because, file, own string
	var given bool
	c := &cobra.Command{Use: "commission TARGET",
		Short: "Begin safely: a named administrator, proved, before the factory's way in is closed",
		Args:  cobra.ExactArgs(1), ValidArgsFunction: a.completing(1, a.targetNames),
		Long: `Make the administrator's account with what the declaration gives it, sign in with it, and become superuser. Only
when that works is the superuser's password taken out of use, and each factory account shut; keys, and Hen
Roost's own way in, stay. If the proof fails what was made is taken back. A round that is held ends it: once
it is approved and has run, ask for the same again. Exit status 4 when it is not complete.`,
		Example: "  roost commission little-tern --administrator odd.strand --because \"take over from the yard\"\n" +
			"  roost commission little-tern --administrator odd.strand --given --because \"he has a password there\"",
		RunE: func(c *cobra.Command, args []string) error {
			body := map[string]any{"administrator": administrator, "because": because}
			if given || file != "" {
				p, err := a.secretInput(file, "Password of "+administrator+" there: ", "--password-file")
				if err != nil {
					return err
				}
				body["password"] = string(p)
			}
			if own != "" {
				p, err := a.secretInput(own, "", "--own-password-file")
				if err != nil {
					return err
				}
				body["own-password"] = string(p)
			}
			var out life.Commissioned
			if err := a.send(c.Context(), http.MethodPost, "/targets/"+url.PathEscape(args[0])+"/commission", body, &out); err != nil {
				return err
			}
			t := table{head: []string{"STAGE", "OUTCOME", "ROUND", "WORDS"}, right: []int{2}, list: out.Stages}
			if t.about = args[0] + " is commissioned."; !out.Complete {
				t.about = args[0] + " is not commissioned yet."
			}
			for _, s := range out.Stages {
				t.rows = append(t.rows, []string{s.What, mark(s.State), figure(int(s.Round)), s.Words})
			}
			if err := a.show(out, t); err != nil {
				return err
			}
			if a.forPeople() && len(out.Links) > 0 {
				a.tell("")
				if err := a.showLinks(out.Links); err != nil {
					return err
				}
			}
			if !out.Complete {
				return exit{exitSteps}
			}
			return nil
		}}
	c.Flags().StringVar(&administrator, "administrator", "", "the user who administers it from now on")
	_ = c.MarkFlagRequired("administrator")
	_ = c.RegisterFlagCompletionFunc("administrator", a.completing(0, a.userNames))
	c.Flags().BoolVar(&given, "given", false, "prove with the password that they have there: it is asked for")
	c.Flags().StringVar(&file, "password-file", "", "the same, from a file; - is standard input")
	c.Flags().StringVar(&own, "own-password-file", "",
		"file with your own password: it approves the rounds that make a superuser, where nobody else could")
	reasonFlag(c, &because)
	return c
}
