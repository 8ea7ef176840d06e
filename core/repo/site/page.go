// Package site writes the pages that people browse a repository by: plain HTML
// that needs no scripts, fits a phone, and follows the reader's choice of light
// or dark.
package site

import (
	"bytes"
	"embed"
	"fmt"
	"html"
	"html/template"
	"strings"
	"sync"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/repo"
)

//go:embed *.html style.css
var files embed.FS

// Renderer is a repo.Renderer.
type Renderer struct{}

var _ repo.Renderer = Renderer{}

// maxFiles is how many paths a package's page lists.
const maxFiles = 2000

// breaks are where a long name may go on in the next line.
var breaks = strings.NewReplacer("/", "/<wbr>", "@", "<wbr>@", "_", "_<wbr>")

// templates are read when the first page is written: most commands write none.
var templates = sync.OnceValue(func() *template.Template {
	return template.Must(template.New("").Funcs(functions).ParseFS(files, "*.html"))
})

var functions = template.FuncMap{
	"bytes":      fact.Bytes,
	"count":      fact.Count,
	"last":       func(rows []repo.Row) int { return len(rows) - 1 },
	"date":       func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") },
	"plain":      func(text string) template.HTML { return template.HTML(plain(text)) },
	"paragraphs": func(text string) []string { return strings.Split(strings.TrimSpace(text), "\n\n") },
	"names":      func(names []string, more int) nameList { return nameList{names, more} },
	"files":      func(all []ell.Entry) []ell.Entry { return all[:min(len(all), maxFiles)] },
	"unlisted":   func(all []ell.Entry) int { return max(0, len(all)-maxFiles) },
	"crumbs":     func(parts ...string) []crumb { return crumbs(parts) },
	"head":       func(title, top string) head { return head{title, top} },
	"address":    func(top, link string) string { return top + link },
	"events":     func(events []repo.Event, top string) eventList { return eventList{events, top} },
	"groups":     groups,
	"rows":       rows,
}

type (
	head      struct{ Title, Top string }
	crumb     struct{ Text, Link string }
	eventList struct {
		Events []repo.Event
		Top    string
	}
	nameList struct {
		Names []string
		More  int
	}
)

// plain is a text that may be long, with places where it may go on in the next
// line.
func plain(text string) string { return breaks.Replace(html.EscapeString(fact.Visible(text))) }

// rows lists packages. There are hundreds on a page, and each publish writes
// some of these pages: a template would take ten times as long.
func rows(all []repo.Row, top string) template.HTML {
	var b strings.Builder
	b.Grow(400 * len(all))
	b.WriteString("<ul class=\"packages\">\n")
	for _, r := range all {
		for _, part := range [...]string{
			`<li id="`, html.EscapeString(r.Name), `"><a href="`, html.EscapeString(top + r.Link), `"><b>`, plain(r.Name), `</b> <span class="version">`, html.EscapeString(r.Full),
			`</span></a> <span class="summary">`, html.EscapeString(r.Summary), `</span> <span class="aside">`, html.EscapeString(r.Arch), ` · `, fact.Bytes(r.Bytes), "</span></li>\n",
		} {
			b.WriteString(part)
		}
	}
	b.WriteString("</ul>\n")
	return template.HTML(b.String())
}

// groups lists the groups of a channel, in the same way; each first letter begins
// a line.
func groups(all []repo.Group) template.HTML {
	var b strings.Builder
	b.WriteString("<ul class=\"groups\">\n")
	for i, g := range all {
		if i > 0 && initial(g.Key) != initial(all[i-1].Key) {
			b.WriteString("<li class=\"break\"></li>\n")
		}
		fmt.Fprintf(&b, "<li><a href=\"%s\"><b>%s</b> <span class=\"aside\">%d</span></a></li>\n", html.EscapeString(g.Link), html.EscapeString(g.Key), g.Packages)
	}
	b.WriteString("</ul>\n")
	return template.HTML(b.String())
}

// crumbs pairs texts with links.
func crumbs(parts []string) []crumb {
	var out []crumb
	for i := 0; i+1 < len(parts); i += 2 {
		out = append(out, crumb{parts[i], parts[i+1]})
	}
	return out
}

func initial(key string) string {
	if strings.HasPrefix(key, "lib") {
		return "lib"
	}
	return key[:1]
}

func render(name string, data any) ([]byte, error) {
	var b bytes.Buffer
	b.Grow(32 << 10) // about a page
	if err := templates().ExecuteTemplate(&b, name, data); err != nil {
		return nil, fmt.Errorf("page %s: %w", name, err)
	}
	return b.Bytes(), nil
}

// Style is the style sheet.
func (Renderer) Style() []byte {
	data, err := files.ReadFile("style.css")
	if err != nil {
		panic(err) // it is embedded
	}
	return data
}

// Front is the first page of a repository.
func (Renderer) Front(p repo.Front) ([]byte, error) { return render("front.html", p) }

// Channel lists a channel.
func (Renderer) Channel(p repo.ChannelPage) ([]byte, error) { return render("channel.html", p) }

// Group lists the packages whose names begin alike.
func (Renderer) Group(p repo.GroupPage) ([]byte, error) { return render("group.html", p) }

// History reports a channel's past.
func (Renderer) History(p repo.HistoryPage) ([]byte, error) { return render("history.html", p) }

// Package shows a package.
func (Renderer) Package(p repo.PackagePage) ([]byte, error) { return render("package.html", p) }
