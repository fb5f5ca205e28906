package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"metaplasis/internal/core/ladder"
	"metaplasis/internal/core/overlay"
)

// plans are named ladders that channels share.
func (a *app) plans() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the ladder plans", Args: exactly(), Example: "  metaplasis plans list",
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Plans(c.Context())
			if err != nil {
				return err
			}
			return a.show(list, func() {
				var rows [][]string
				for _, p := range list {
					from := "built in"
					if !p.BuiltIn {
						from = p.Author
					}
					var used []string
					for _, u := range p.Channels {
						used = append(used, fmt.Sprintf("%s (%d)", u.Channel, u.Version))
					}
					rows = append(rows, []string{p.Name, strconv.Itoa(p.Version), from, strconv.Itoa(len(p.Rungs)), strings.Join(used, ", "), p.Title})
				}
				a.table("PLAN|VERSION|FROM|RUNGS|USED BY|TITLE", rows)
			})
		},
	}
	remove := &cobra.Command{
		Use: "remove PLAN", Short: "Remove a ladder plan with all its versions", Args: exactly("PLAN"), Example: "  metaplasis plans remove regatta",
		Long: "Remove a ladder plan with all its versions. Channels that use it keep their rungs.",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().RemovePlan(c.Context(), args[0]); err != nil {
				return err
			}
			a.printf("The plan %s was removed.\n", args[0])
			return nil
		},
	}
	return group("plans", "Keep and share ladder plans", list, a.plansShow(), a.plansExport(), a.plansImport(), a.plansSave(), remove)
}

func (a *app) plansShow() *cobra.Command {
	var version int
	c := &cobra.Command{
		Use: "show PLAN", Short: "Show a ladder plan", Args: exactly("PLAN"), Example: "  metaplasis plans show phone-first\n  metaplasis plans show regatta --version 2",
		RunE: func(c *cobra.Command, args []string) error {
			p, err := a.client().Plan(c.Context(), args[0], version)
			if err != nil {
				return err
			}
			return a.show(p, func() {
				a.printf("%s, version %d: %s\n\n", p.Name, p.Version, p.Title)
				a.showLadder(p.Name, ladder.Ladder{Rungs: p.Rungs, Governor: p.Governor})
			})
		},
	}
	c.Flags().IntVar(&version, "version", 0, "version; 0: the newest")
	return c
}

func (a *app) plansExport() *cobra.Command {
	var version int
	var file string
	c := &cobra.Command{
		Use: "export PLAN", Short: "Write a ladder plan to a file", Args: exactly("PLAN"), Example: "  metaplasis plans export regatta --file regatta.json",
		RunE: func(c *cobra.Command, args []string) error {
			p, err := a.client().Plan(c.Context(), args[0], version)
			if err != nil {
				return err
			}
			text, err := json.MarshalIndent(p.Plan, "", "  ")
			if err != nil {
				return err
			}
			if file == "" || file == "-" {
				a.printf("%s\n", text)
				return nil
			}
			if err := os.WriteFile(file, append(text, '\n'), 0o644); err != nil {
				return fmt.Errorf("the plan: %w", err)
			}
			a.printf("Version %d of %s is in %s.\n", p.Version, p.Name, file)
			return nil
		},
	}
	c.Flags().IntVar(&version, "version", 0, "version; 0: the newest")
	c.Flags().StringVar(&file, "file", "", "output file (default: standard output)")
	return c
}

func (a *app) plansImport() *cobra.Command {
	var file, name string
	c := &cobra.Command{
		Use: "import", Short: "Store a ladder plan from a file, as its next version", Args: exactly(),
		Example: "  metaplasis plans import --file regatta.json\n  metaplasis plans export general | metaplasis plans import --file - --name regatta",
		RunE: func(c *cobra.Command, _ []string) error {
			var p ladder.Plan
			if err := a.readFile("plan", file, "plans export", &p); err != nil {
				return err
			}
			if p.Format != ladder.PlanFormat {
				return fmt.Errorf("the plan in %s: found the format %q, expected %q; see docs/plans.md", file, p.Format, ladder.PlanFormat)
			}
			if name != "" {
				p.Name = name
			}
			return a.storePlan(c, p)
		},
	}
	c.Flags().StringVar(&file, "file", "", "JSON file; -: standard input")
	c.Flags().StringVar(&name, "name", "", "name of the plan (default: from the file)")
	return c
}

func (a *app) plansSave() *cobra.Command {
	var title string
	c := &cobra.Command{
		Use: "save PLAN CHANNEL", Short: "Store the ladder of a channel as a plan", Args: exactly("PLAN", "CHANNEL"),
		Example: "  metaplasis plans save regatta start-line --title \"Kestrel Bay, cameras on the water\"",
		RunE: func(c *cobra.Command, args []string) error {
			l, err := a.client().Ladder(c.Context(), args[1])
			if err != nil {
				return err
			}
			return a.storePlan(c, ladder.Plan{Format: ladder.PlanFormat, Name: args[0], Title: title, Governor: l.Governor, Interlaced: l.Interlaced, Rungs: l.Rungs})
		},
	}
	c.Flags().StringVar(&title, "title", "", "what it is for")
	return c
}

func (a *app) storePlan(c *cobra.Command, p ladder.Plan) error {
	out, err := a.client().StorePlan(c.Context(), p)
	if err != nil {
		return err
	}
	return a.show(out, func() {
		a.printf("%s is stored as version %d.\n", out.Name, out.Version)
		for _, u := range out.Channels {
			a.printf("%s goes on with version %d; metaplasis ladders use %s %s takes the new one.\n", u.Channel, u.Version, u.Channel, out.Name)
		}
	})
}

// images are for logos and slates.
func (a *app) images() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List the images for logos and slates", Args: exactly(), Example: "  metaplasis images list",
		RunE: func(c *cobra.Command, _ []string) error {
			list, err := a.client().Images(c.Context())
			if err != nil {
				return err
			}
			return a.show(list, func() {
				var rows [][]string
				for _, i := range list {
					rows = append(rows, []string{i.Name, fmt.Sprintf("%d kB", (i.Bytes+1023)/1024), strings.Join(i.Channels, ", ")})
				}
				a.table("IMAGE|SIZE|USED BY", rows)
			})
		},
	}
	add := &cobra.Command{
		Use: "add IMAGE FILE", Short: "Add a PNG image, or replace one", Args: exactly("IMAGE", "FILE"),
		Long:    "Add a PNG image for logos and slates, or replace one: channels take it from the next segment on. - is standard input.",
		Example: "  metaplasis images add club-burgee burgee.png",
		RunE: func(c *cobra.Command, args []string) error {
			var in io.Reader = a.in
			if args[1] != "-" {
				f, err := os.Open(args[1])
				if err != nil {
					return fmt.Errorf("the image: %w", err)
				}
				defer func() { _ = f.Close() }()
				in = f
			}
			file, err := io.ReadAll(io.LimitReader(in, overlay.MaxImage+1))
			if err != nil {
				return fmt.Errorf("the image: %w", err)
			}
			if err := overlay.CheckImage(file); err != nil {
				return fmt.Errorf("the image %s: %w", args[1], err)
			}
			img, err := a.client().PutImage(c.Context(), args[0], file)
			if err != nil {
				return err
			}
			return a.show(img, func() { a.printf("The image %s is stored.\n", img.Name) })
		},
	}
	remove := &cobra.Command{
		Use: "remove IMAGE", Short: "Remove an image that nothing uses", Args: exactly("IMAGE"), Example: "  metaplasis images remove club-burgee",
		RunE: func(c *cobra.Command, args []string) error {
			if err := a.client().RemoveImage(c.Context(), args[0]); err != nil {
				return err
			}
			a.printf("The image %s was removed.\n", args[0])
			return nil
		},
	}
	return group("images", "Keep images for logos and slates", list, add, remove)
}
