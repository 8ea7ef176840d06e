package draft

import (
	"cmp"
	"encoding/xml"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"ellwand.example/core/pattern"
)

// Bounds of a description, in characters.
const (
	shortDescription = 45
	longDescription  = 700
)

// texts finds what the source's own texts say of the software: its metadata for
// catalogues, and where that has not all, its README and its manual.
func (t *tree) texts(name string) Facts {
	f := t.catalogue()
	f.Description = cmp.Or(f.Description, t.readmeDescription(name), t.manualDescription(name))
	f.Homepage = cmp.Or(f.Homepage, t.project(), t.readmeHomepage(name))
	f.Summary = cmp.Or(f.Summary, t.manualSummary(name), t.readmeSummary(name), t.packageComment())
	return f
}

var goPackage = pattern.New(`(?m)^(?://|/\*)\s*Package (\w+) ((?:.|\n(?://|\s)\s*\S)+)`)

// packageComment takes what the comment of a package of Go says that it does.
func (t *tree) packageComment() string {
	for _, file := range t.glob("doc.go", "*.go") {
		m := goPackage.FindStringSubmatch(t.read(file))
		if m == nil {
			continue
		}
		text := sentences(strings.NewReplacer("//", "", "*/", "").Replace(m[2]))
		first, _, _ := strings.Cut(text, ". ")
		return sentence(strings.TrimPrefix(first, "is "))
	}
	return ""
}

// component is what a source says of itself for software catalogues, in the
// format of AppStream (freedesktop.org).
type component struct {
	Summary []struct {
		Lang string `xml:"lang,attr"`
		Text string `xml:",chardata"`
	} `xml:"summary"`
	Description struct {
		Paragraphs []struct {
			Lang string `xml:"lang,attr"`
			Text string `xml:",chardata"`
		} `xml:"p"`
	} `xml:"description"`
	URLs []struct {
		Type string `xml:"type,attr"`
		Text string `xml:",chardata"`
	} `xml:"url"`
}

// catalogue reads such metadata.
func (t *tree) catalogue() (f Facts) {
	for _, name := range t.glob("*.metainfo.xml*", "*/*.metainfo.xml*", "*.appdata.xml*", "*/*.appdata.xml*") {
		var c component
		if xml.Unmarshal([]byte(t.read(name)), &c) != nil {
			continue
		}
		for _, s := range c.Summary {
			if s.Lang == "" {
				f.Summary = cmp.Or(f.Summary, sentence(s.Text))
			}
		}
		for _, p := range c.Description.Paragraphs {
			if p.Lang == "" {
				f.Description = cmp.Or(f.Description, sentences(p.Text))
			}
		}
		for _, u := range c.URLs {
			if u.Type == "homepage" {
				f.Homepage = cmp.Or(f.Homepage, address(u.Text))
			}
		}
	}
	return f
}

// project reads the homepage out of a description of the project in RDF, in the
// vocabulary DOAP.
func (t *tree) project() string {
	homepage := regexp.MustCompile(`<homepage[^>]*resource="([^"]+)"`)
	for _, name := range t.glob("*.doap", "*/*.doap") {
		if m := homepage.FindStringSubmatch(t.read(name)); m != nil {
			return address(m[1])
		}
	}
	return ""
}

// address is a text that is the address of a page; empty if it is none.
func address(text string) string {
	text = strings.TrimRight(strings.TrimSpace(text), ".,;:")
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "https" && u.Scheme != "http" || !strings.Contains(u.Host, ".") || u.User != nil || strings.ContainsAny(text, "$@{} ") {
		return ""
	}
	return text
}

// readmes lists the texts at the top that introduce the software.
func (t *tree) readmes() (texts []string) {
	for _, file := range t.names {
		if ext := path.Ext(file); strings.HasPrefix(strings.ToUpper(file), "README") && !slices.Contains([]string{".html", ".htm", ".in"}, ext) {
			texts = append(texts, strings.ReplaceAll(t.read(file), "\r\n", "\n"))
		}
	}
	return texts
}

// called is a pattern for the name of the software as texts write it.
func called(name string) string {
	bare := strings.TrimPrefix(name, "lib")
	if len(bare) < 3 {
		bare = name
	}
	return `(?:lib)?` + strings.NewReplacer("-", "[-_ ]?", "_", "[-_ ]?").Replace(regexp.QuoteMeta(bare))
}

// What a paragraph tells that is not what the software is: of what became of it,
// how it is come by, and what one may do with it.
var (
	otherVerbs  = pattern.New(`(?i)^(?:was|has|supports|comes|requires|needs|depends|uses)$`)
	otherThings = pattern.New(`(?i)^(?:available|already|being|built|copyright|currently|developed|distributed|free|in|known|licensed|licenced|maintained|not|now|part|provided|released|still|tested|under|used|written)$`)
	legal       = pattern.New(`(?i)\b(?:licen[cs]e[ds]?|copyright|free software|warranty)\b`)
)

// isProse tells words from drawings and tables.
func isProse(text string) bool {
	letters := 0
	for _, r := range text {
		if unicode.IsLetter(r) || unicode.IsDigit(r) || r == ' ' {
			letters++
		}
	}
	return letters*10 >= len(text)*9
}

// readmeDescription takes the first paragraph that begins with the name and goes
// on with what it is or does.
func (t *tree) readmeDescription(name string) string {
	begin := regexp.MustCompile(`(?i)^(?:(?:the |gnu )*)` + called(name) + `(?: \([^)]*\)| library| package| project)?,? ([a-z]+s) (\w+)`)
	for _, text := range t.readmes() {
		for paragraph := range strings.SplitSeq(text, "\n\n") {
			paragraph = strings.TrimLeft(paragraph, "\n")
			lines := strings.Split(paragraph, "\n")
			for len(lines) > 0 && isHeading(lines) {
				lines = lines[1:]
			}
			whole := plain(strings.Join(lines, "\n"))
			m := begin.FindStringSubmatch(whole)
			if m == nil || otherVerbs.MatchString(m[1]) || otherThings.MatchString(m[2]) || !isProse(whole) {
				continue
			}
			if d := sentences(whole); len(d) >= shortDescription && !legal.MatchString(d) {
				return d
			}
		}
	}
	return ""
}

// isHeading reports whether the first of the lines is a title, or the line below
// one.
func isHeading(lines []string) bool {
	ruled := func(s string) bool {
		s = strings.TrimSpace(s)
		return len(s) > 2 && strings.Trim(s, "=-~*#_") == ""
	}
	return strings.TrimSpace(lines[0]) == "" || strings.HasPrefix(lines[0], "#") || ruled(lines[0]) || len(lines) > 1 && ruled(lines[1])
}

var (
	image    = pattern.New(`!\[[^\]]*\](\([^)]*\)|\[[^\]]*\])|<!--.*?-->|</?[a-zA-Z][^>]*>`)
	link     = pattern.New(`\[([^\]]+)\](\([^)]*\)|\[[^\]]*\])`)
	rstLink  = pattern.New("`([^`<]+?) ?<[^>]+>`_+|`([^`]+)`_|\\b([A-Za-z]+)_( |,|\\.)")
	emphasis = pattern.New("\\*\\*|``?|(^| )[*_]([^*_ ][^*_]*)[*_]")
	spaces   = pattern.New(`\s+`)
)

// plain takes the marks of Markdown and reStructuredText out of a paragraph, and
// makes one line of it.
func plain(text string) string {
	text = rstLink.ReplaceAllString(text, "$1$2$3$4")
	text = image.ReplaceAllString(text, "")
	text = link.ReplaceAllString(text, "$1")
	text = emphasis.ReplaceAllString(text, "$1$2")
	return strings.TrimSpace(spaces.ReplaceAllString(text, " "))
}

var sentenceEnd = pattern.New(`[.!?]["')]?( |$)`)

// sentences is a paragraph in one line, up to the last sentence that is not too
// long a description; empty if there is no whole one.
func sentences(text string) string {
	text = strings.TrimSpace(spaces.ReplaceAllString(text, " "))
	text = strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return -1
		}
		return r
	}, text)
	end := 0
	for _, m := range sentenceEnd.FindAllStringIndex(text, -1) {
		before := text[:m[0]]
		short := before[strings.LastIndexByte(before, ' ')+1:]
		if m[1] < len(text) && (len(short) < 2 || slices.Contains([]string{"e.g", "i.e", "etc", "vs", "cf", "Mr", "St", "ver", "(e.g", "(i.e"}, short)) {
			continue // it goes on
		}
		if m[1] > longDescription {
			break
		}
		end = m[1]
	}
	return strings.TrimSpace(text[:end])
}

var (
	roffFont  = pattern.New(`^\.(?:B|I|BR|BI|IR|RB|RI|IB|SM|Em|Xr|Ar|Nm|Fl|Pa|Cm|Li|Dq|Sq)\b ?`)
	roffTurns = pattern.New(`^\.(?:BR|RB|IR|RI|BI|IB)[^"]*$`)
	roffBreak = pattern.New(`^\.(?:PP|P|LP|Pp|SH|Sh|SS|Ss|TP|IP|Bl|It|nf|br|sp|RS|HP)\b`)
	roffMark  = pattern.New(`\\f\[[A-Z]*\]|\\f[A-Z]|\\\(..|\\[&|^/,]`)
)

// manualDescription takes the first paragraph of a manual's description.
func (t *tree) manualDescription(name string) string {
	page := strings.NewReplacer("-", "[-_]", "_", "[-_]").Replace(name)
	for _, file := range t.glob(page+".[138]", "*/"+page+".[138]", page+".[138].in", "*/"+page+".[138].in", "*/*/"+page+".[138]") {
		lines := strings.Split(t.read(file), "\n")
		at := slices.IndexFunc(lines, func(line string) bool {
			title := strings.ToUpper(strings.ReplaceAll(line, `"`, ""))
			return strings.HasPrefix(title, ".SH DESCRIPTION")
		})
		if at < 0 {
			continue
		}
		var b strings.Builder
		for _, line := range lines[at+1:] {
			switch {
			case strings.HasPrefix(line, `.\"`) || strings.TrimSpace(line) == "" && b.Len() == 0 || roffBreak.MatchString(line) && b.Len() == 0:
				continue
			case roffFont.MatchString(line):
				words := strings.TrimSpace(strings.ReplaceAll(roffFont.ReplaceAllString(line, ""), `"`, ""))
				if roffTurns.MatchString(line) { // the arguments are set in turns of two fonts, without space
					words = strings.ReplaceAll(words, " ", "")
				}
				if words == "" && strings.HasPrefix(line, ".Nm") {
					words = name
				}
				line = words
			case strings.HasPrefix(line, ".") || strings.TrimSpace(line) == "":
				line = ""
			}
			if line == "" {
				break
			}
			b.WriteString(strings.ReplaceAll(roffMark.ReplaceAllString(line, ""), `\-`, "-") + " ")
		}
		if d := strings.NewReplacer(" ,", ",", " ;", ";", " .", ".").Replace(sentences(b.String())); len(d) >= shortDescription && !strings.Contains(d, `\`) && !legal.MatchString(d) {
			return d
		}
	}
	return ""
}

var (
	toldHomepage = pattern.New(`(?i)(?:home[- ]?page|web ?site|web page)[\])*:]*(?: is| at| is at| \([^)\n]*\))?\s{0,12}:?\s{0,4}[<(\[]*(https?://[^\s>)\]"'<]+)`)
	anyAddress   = pattern.New(`https?://[^\s>)\]"'<` + "`" + `]+`)
	// notHomes are hosts that pages about the state of a project are on.
	notHomes = pattern.New(`(?i)badge|shields\.io|travis|appveyor|coveralls|codecov|scan\.coverity|ci\.|actions|img\.|repology|lgtm|fossa|groups\.|report|/issues|/pulls|wikipedia|gitter|discord|slack|matrix\.to|irc|readthedocs|godoc|pkg\.go\.|docs\.rs|crates\.|npmjs|pypi\.|rubygems|packagist|donate|patreon|liberapay|opencollective|paypal|twitter|zenodo|doi\.org`)
)

// readmeHomepage takes the address that a README calls the homepage, or one of
// which the host, or the end, is the name.
func (t *tree) readmeHomepage(name string) string {
	own := regexp.MustCompile(`(?i)^https?://(?:www\.)?` + called(name) + `(?:\.[a-z-]+){1,3}/?$`)
	forge := regexp.MustCompile(`(?i)^https?://[\w.-]+/(?:[\w.~-]+/){0,3}` + called(name) + `/?$`)
	itself := regexp.MustCompile(`(?i)` + called(name))
	var hosts, ends []string
	for _, text := range t.readmes() {
		for _, m := range toldHomepage.FindAllStringSubmatch(text, -1) {
			if a := address(m[1]); a != "" && itself.MatchString(a) {
				return a
			}
		}
		for _, a := range anyAddress.FindAllString(text, -1) {
			a = strings.TrimSuffix(address(a), ".git")
			switch {
			case a == "" || notHomes.MatchString(a):
			case own.MatchString(a):
				hosts = append(hosts, a)
			case forge.MatchString(a):
				ends = append(ends, a)
			}
		}
	}
	if all := append(hosts, ends...); len(all) > 0 {
		return all[0]
	}
	return ""
}
