package cli

import (
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
)

// numbered reads the number of something that a command lists.
func numbered(kind, list, text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, usagef("%q is no %s; give the number that inkpost %s lists", text, kind, list)
	}
	return id, nil
}

// toFile calls write with standard output, or with a new file where one is named.
func toFile(cmd *cobra.Command, file string, write func(io.Writer) error) error {
	if file == "" {
		return write(cmd.OutOrStdout())
	}
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return fmt.Errorf("%w; an existing file is not overwritten", err)
	}
	if err := write(f); err != nil {
		_ = f.Close()
		_ = os.Remove(file)
		return err
	}
	return f.Close()
}

func contactCommand() *cobra.Command {
	var in contract.ContactInput
	list := &cobra.Command{Use: "list SITE", Short: "List the contacts of a site", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			rows, err := c.Contacts(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return show(cmd, rows,
				column[site.Contact]{title: "contact", text: func(c site.Contact) string { return fmt.Sprint(c.ID) }},
				column[site.Contact]{title: "role", text: func(c site.Contact) string { return c.Role }},
				column[site.Contact]{title: "name", text: func(c site.Contact) string { return c.Name }, tone: func(site.Contact) tone {
					return strong
				}},
				column[site.Contact]{title: "phone", text: func(c site.Contact) string { return orDash(c.Phone) }},
				column[site.Contact]{title: "mail", text: func(c site.Contact) string { return orDash(c.Mail) }},
				column[site.Contact]{title: "note", text: func(c site.Contact) string { return orDash(c.Note) }})
		})}
	add := &cobra.Command{Use: "add SITE NAME", Short: "Add somebody to call about a site", Args: cobra.ExactArgs(2),
		Example: `  inkpost contact add KET-07 "Harbour office" --role "key holder" --phone "+44 1632 960007"`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			in.Name = args[1]
			one, err := c.AddContact(cmd.Context(), args[0], in)
			if err == nil {
				say(cmd, "%s is a contact of %s.", one.Name, strings.ToUpper(args[0]))
			}
			return err
		})}
	edit := &cobra.Command{Use: "edit SITE CONTACT", Short: "Change a contact", Args: cobra.ExactArgs(2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := numbered("contact", "contact list", args[1])
			if err != nil {
				return err
			}
			f, err := given(cmd, map[string]string{"name": "name", "role": "role", "phone": "phone", "mail": "mail", "note": "note"})
			if err != nil {
				return err
			}
			one, err := c.EditContact(cmd.Context(), args[0], id, f)
			if err == nil {
				say(cmd, "Contact %s is changed.", one.Name)
			}
			return err
		})}
	edit.Flags().StringVar(&in.Name, "name", "", "the name")
	for _, c := range []*cobra.Command{add, edit} {
		c.Flags().StringVar(&in.Role, "role", "", "customer, provider, key holder or other")
		c.Flags().StringVar(&in.Phone, "phone", "", "phone number")
		c.Flags().StringVar(&in.Mail, "mail", "", "mail address")
		c.Flags().StringVar(&in.Note, "note", "", "when to call, what for")
	}
	remove := removal("remove SITE CONTACT", "Remove a contact", 2,
		func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
			id, err := numbered("contact", "contact list", args[1])
			if err != nil {
				return "", err
			}
			return "Contact " + args[1] + " is removed.", c.RemoveContact(cmd.Context(), args[0], id)
		})
	return group("contact", "Who to call about a site", list, add, edit, remove)
}

func visitCommand() *cobra.Command {
	list := &cobra.Command{Use: "list SITE", Short: "List what was written down at visits, the newest first", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			rows, err := c.SiteNotes(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return show(cmd, rows,
				column[contract.SiteNote]{title: "note", text: func(n contract.SiteNote) string { return fmt.Sprint(n.ID) }},
				column[contract.SiteNote]{title: "when", text: func(n contract.SiteNote) string {
					return n.At.Local().Format("2006-01-02 15:04")
				},
					machine: func(n contract.SiteNote) string { return stamp(n.At) }},
				column[contract.SiteNote]{title: "by", text: func(n contract.SiteNote) string { return n.By }},
				column[contract.SiteNote]{title: "words", text: func(n contract.SiteNote) string { return n.Words }})
		})}
	note := &cobra.Command{Use: "note SITE WORDS", Short: "Write down what was done or seen", Args: cobra.ExactArgs(2),
		Example: `  inkpost visit note KET-07 "Replaced the recorder's disk; the router hums"`,
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			n, err := c.AddSiteNote(cmd.Context(), args[0], args[1])
			if err == nil {
				say(cmd, "Note %d of %s is written down. What the next visit must know first: inkpost site edit %s --note WORDS", n.ID,
					strings.ToUpper(args[0]), strings.ToUpper(args[0]))
			}
			return err
		})}
	remove := removal("remove SITE NOTE", "Remove a note", 2, func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
		id, err := numbered("note", "visit list", args[1])
		if err != nil {
			return "", err
		}
		return "Note " + args[1] + " is removed.", c.RemoveSiteNote(cmd.Context(), args[0], id)
	})
	return group("visit", "What was written down of a site, by date", list, note, remove)
}

func photoCommand() *cobra.Command {
	var caption, file string
	list := &cobra.Command{Use: "list SITE", Short: "List the photos of a site, the newest first", Args: cobra.ExactArgs(1),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			rows, err := c.Photos(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			return show(cmd, rows,
				column[contract.Photo]{title: "photo", text: func(p contract.Photo) string { return fmt.Sprint(p.ID) }},
				column[contract.Photo]{title: "when", text: func(p contract.Photo) string { return ago(p.At) },
					machine: func(p contract.Photo) string { return stamp(p.At) }},
				column[contract.Photo]{title: "by", text: func(p contract.Photo) string { return p.By }},
				column[contract.Photo]{title: "size", text: func(p contract.Photo) string {
					return fmt.Sprintf("%d x %d", p.Width,
						p.Height)
				}},
				column[contract.Photo]{title: "bytes", text: func(p contract.Photo) string { return count(p.Bytes) }},
				column[contract.Photo]{title: "caption", text: func(p contract.Photo) string { return orDash(p.Caption) }})
		})}
	add := &cobra.Command{Use: "add SITE FILE", Short: "Keep a photo: a JPEG or PNG of 5 MB at most, drawn anew without position and date",
		Args: cobra.ExactArgs(2), RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			f, err := os.Open(args[1])
			if err != nil {
				return err
			}
			defer f.Close()
			p, err := c.AddPhoto(cmd.Context(), args[0], caption, f)
			if err == nil {
				say(cmd, "Photo %d of %s is kept: %d x %d pixels.", p.ID, strings.ToUpper(args[0]), p.Width, p.Height)
			}
			return err
		})}
	add.Flags().StringVar(&caption, "caption", "", "what it shows")
	get := &cobra.Command{Use: "get SITE PHOTO --file FILE", Short: "Write a photo to a new file", Args: cobra.ExactArgs(2),
		RunE: with(func(cmd *cobra.Command, c *client.Client, args []string) error {
			id, err := numbered("photo", "photo list", args[1])
			if err != nil {
				return err
			}
			return toFile(cmd, file, func(w io.Writer) error { return c.Photo(cmd.Context(), args[0], id, w) })
		})}
	get.Flags().StringVar(&file, "file", "", "write to this new file instead of standard output")
	remove := removal("remove SITE PHOTO", "Remove a photo", 2, func(cmd *cobra.Command, c *client.Client, args []string) (string, error) {
		id, err := numbered("photo", "photo list", args[1])
		if err != nil {
			return "", err
		}
		return "Photo " + args[1] + " is removed.", c.RemovePhoto(cmd.Context(), args[0], id)
	})
	return group("photo", "Photos of a site: where the router stands, how it is wired", list, add, get, remove)
}
