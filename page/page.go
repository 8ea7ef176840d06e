// Package page writes the pages that people browse a repository by: plain HTML
// that needs no scripts, fits a phone, and follows the reader's choice of light
// or dark.
package page

import (
	"bytes"
	"embed"
	"fmt"
	"html/template"
	"strings"
	"time"

	"ellwand.example/core/pack"
	"ellwand.example/core/repo"
	"ellwand.example/term"
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

var templates = template.Must(template.New("").Funcs(template.FuncMap{
	"bytes": term.Bytes,
	"count": term.Count,
	"last":  func(rows []repo.Row) int { return len(rows) - 1 },
	"date":  func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 UTC") },
	"short": func(digest string) string { return digest[:min(12, len(digest))] },
	"plain": func(text string) template.HTML { // breaks where a long name may
		return template.HTML(breaks.Replace(template.HTMLEscapeString(term.Visible(text))))
	},
	"paragraphs": func(text string) []string { return strings.Split(strings.TrimSpace(text), "\n\n") },
	"names":      func(names []string, more int) nameList { return nameList{names, more} },
	"files":      func(all []pack.Entry) []pack.Entry { return all[:min(len(all), maxFiles)] },
	"unlisted":   func(all []pack.Entry) int { return max(0, len(all)-maxFiles) },
	"crumbs":     func(parts ...string) []crumb { return crumbs(parts) },
	"head":       func(title, top string) head { return head{title, top} },
	"letter": func(groups []repo.Group, i int) bool { // a new first letter begins
		return i > 0 && initial(groups[i].Key) != initial(groups[i-1].Key)
	},
	"address": func(top, link string) string { return top + link },
	"events":  func(events []repo.Event, top string) eventList { return eventList{events, top} },
	"rows":    func(rows []repo.Row, top string) rowList { return rowList{rows, top} },
}).ParseFS(files, "*.html"))

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
	rowList struct {
		Rows []repo.Row
		Top  string
	}
)

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
	if err := templates.ExecuteTemplate(&b, name, data); err != nil {
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

// History tells of a channel's past.
func (Renderer) History(p repo.HistoryPage) ([]byte, error) { return render("history.html", p) }

// Package shows a package.
func (Renderer) Package(p repo.PackagePage) ([]byte, error) { return render("package.html", p) }
