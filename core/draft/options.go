package draft

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/pattern"
	"ellwand.example/core/recipe/document"
)

// Options of a source are written as the arguments that set them, with their
// description behind: "--enable-gui  build the window", "-DTIDE_GUI=ON  build the window".

// maxOptions bounds the options of a source that a draft lists.
const maxOptions = 40

var (
	cmakeOption = pattern.New(`(?im)^[ \t]*(?:cmake_dependent_)?option\s*\(\s*([A-Za-z0-9_]+)\s+"([^"]*)"\s*([^\s)]*)`)
	mesonOption = pattern.New(`(?s)\boption\s*\(\s*'([\w-]+)'(.*?)\)\s*(?:\n|$)`)
	mesonType   = pattern.New(`\btype\s*:\s*'(\w+)'`)
	mesonValue  = pattern.New(`\bvalue\s*:\s*'?([\w.-]+)`)
	mesonAbout  = pattern.New(`\bdescription\s*:\s*'([^'\n]*)'`)
)

// cmakeOptions lists the options of a CMake project.
func (t *tree) cmakeOptions() (all []string) {
	for _, file := range t.glob("CMakeLists.txt", "cmake/*.cmake", "*.cmake") {
		for _, m := range cmakeOption.FindAllStringSubmatch(t.read(file), -1) {
			value := "ON" // also where that depends on something
			if slices.Contains([]string{"", "OFF", "FALSE", "NO", "0"}, strings.ToUpper(m[3])) {
				value = "OFF"
			}
			all = append(all, strings.TrimSpace(fmt.Sprintf("-D%s=%s  %s", m[1], value, m[2])))
		}
	}
	return all[:min(len(all), maxOptions)]
}

// mesonOptions lists the options of a Meson project.
func (t *tree) mesonOptions() (all []string) {
	text := t.read("meson.options")
	if text == "" {
		text = t.read("meson_options.txt")
	}
	one := func(p pattern.Pattern, in, otherwise string) string {
		if m := p.FindStringSubmatch(in); m != nil {
			return m[1]
		}
		return otherwise
	}
	for _, m := range mesonOption.FindAllStringSubmatch(text, -1) {
		usual := map[string]string{"boolean": "true", "feature": "auto"}[one(mesonType, m[2], "")]
		all = append(all, strings.TrimSpace(fmt.Sprintf("-D%s=%s  %s", m[1], one(mesonValue, m[2], usual), one(mesonAbout, m[2], ""))))
	}
	return all[:min(len(all), maxOptions)]
}

var (
	// sideParts are directories of what a package does not consist of.
	sideParts  = pattern.New(`(?i)(?:^|[\s"'/(])(tests?|testing|unittests?|benchmarks?|bench|examples?|demos?|fuzz(?:ing)?|third[_-]?party|extern(?:al)?)/`)
	sideOption = pattern.New(`(?i)(test|bench|example|demo|fuzz)`)
	complaint  = pattern.New(`(?i)(?:configure: error:|CMake Error|^\S*meson\.build:\d+:\d+: ERROR:|could not find|not found|requested but|required)`)
)

// turnOff turns options off that a build stops for: those of tests and the like if it
// stops there, and those that the log's last words name.
func (t *Trials) turnOff(tail []string) string {
	f := t.Facts
	var off []string
	add := func(argument string) {
		if argument != "" && !slices.Contains(f.Configure, argument) && t.once(argument) {
			off = append(off, argument)
		}
	}
	inSide := slices.ContainsFunc(tail, func(line string) bool {
		return strings.Contains(strings.ToLower(line), "error") && sideParts.MatchString(line)
	})
	if slices.ContainsFunc(tail, func(line string) bool { return strings.Contains(line, "Cannot find source file") }) {
		inSide = inSide || slices.ContainsFunc(tail, func(line string) bool { return sideParts.MatchString(line) })
	}
	for _, o := range f.Switches {
		name := optionName(o)
		if inSide && sideOption.MatchString(name) {
			add(negated(o))
		}
	}
	if inSide && f.Method == "cmake" {
		add("-DBUILD_TESTING=OFF")
	}
	if len(off) == 0 {
		words := strings.ToLower(strings.Join(slices.DeleteFunc(slices.Clone(tail), func(line string) bool { return !complaint.MatchString(line) }), "\n"))
		for _, o := range f.Switches {
			name := strings.ToLower(optionName(o))
			name = name[strings.LastIndexAny(name, "_")+1:]
			if len(name) >= 3 && regexp.MustCompile(`\b(?:lib)?`+regexp.QuoteMeta(name)+`\b`).MatchString(words) {
				add(negated(o))
			}
		}
	}
	if len(off) == 0 || len(off) > 8 {
		return ""
	}
	f.Configure = append(f.Configure, off...)
	return "configure gets " + strings.Join(off, " ")
}

// Choose makes options of the recipe of options of the source, by their names; the error says
// which one the source does not have.
func (f *Facts) Choose(names []string) error {
	for _, name := range names {
		i := slices.IndexFunc(f.Switches, func(s string) bool { return strings.EqualFold(optionName(s), name) })
		if i < 0 {
			var all []string
			for _, s := range f.Switches {
				all = append(all, optionName(s))
			}
			remedy := "it has none"
			if near := fact.Nearest(name, all); near != "" {
				remedy = fmt.Sprintf("did you mean %q?", near)
			} else if len(all) > 0 {
				remedy = "it has " + strings.Join(all, ", ")
			}
			return fact.Errorf(fact.StatusUsage, "the source has no option %q; %s", name, remedy)
		}
		f.chosen = append(f.chosen, f.Switches[i])
	}
	return nil
}

var notInOptionNames = pattern.New(`[^a-z0-9_]+`)

// chosenOption writes an option of the source as an option of the recipe: its name there, its
// table, and the argument of configure.
func chosenOption(o string) (table, argument string) {
	word := strings.Fields(o)[0]
	about := strings.TrimSpace(strings.TrimPrefix(o, word))
	name := strings.Trim(notInOptionNames.ReplaceAllString(strings.ToLower(optionName(o)), "_"), "_")
	if name == "" || name[0] < 'a' || name[0] > 'z' {
		name = "with_" + name
	}
	value, choices := "true", ""
	switch _, stated, _ := strings.Cut(word, "="); {
	case !strings.HasPrefix(word, "-D"):
		value, choices = `"yes"`, `["yes", "no"]`
		prefix := "--enable-"
		if strings.HasPrefix(word, "--with") {
			prefix = "--with-"
		}
		if strings.HasPrefix(word, "--disable-") || strings.HasPrefix(word, "--without-") {
			value = `"yes"`
		}
		argument = prefix + optionName(o) + "={option." + name + "}"
	case slices.Contains([]string{"ON", "OFF", "true", "false"}, stated):
		if stated == "OFF" || stated == "false" {
			value = "false"
		}
	case slices.Contains([]string{"auto", "enabled", "disabled"}, stated):
		value, choices = document.Quote(stated), `["auto", "enabled", "disabled"]`
	default:
		value = document.Quote(stated)
	}
	if argument == "" {
		argument = "-D" + optionName(o) + "={option." + name + "}"
	}
	table = fmt.Sprintf("[option.%s]\nsummary = %s\ndefault = %s\n", name, document.Quote(braces(comment(about))), value)
	if choices != "" {
		table += "choices = " + choices + "\n"
	}
	return table, argument
}

// optionName is the bare name of an option.
func optionName(option string) string {
	word, _, _ := strings.Cut(strings.Fields(option)[0], "=")
	word, _, _ = strings.Cut(word, "[")
	for _, prefix := range []string{"--with-", "--without-", "--enable-", "--disable-", "-D"} {
		if rest, ok := strings.CutPrefix(word, prefix); ok {
			return rest
		}
	}
	return word
}

// negated is the argument that turns an option off; empty if it is off already, or
// cannot be.
func negated(option string) string {
	word := strings.Fields(option)[0]
	name := optionName(option)
	switch {
	case strings.HasPrefix(word, "--with"):
		return "--without-" + name
	case strings.HasPrefix(word, "--enable"), strings.HasPrefix(word, "--disable"):
		return "--disable-" + name
	case strings.HasPrefix(word, "-D"):
		_, value, _ := strings.Cut(word, "=")
		return map[string]string{"ON": "-D" + name + "=OFF", "true": "-D" + name + "=false", "auto": "-D" + name + "=disabled", "enabled": "-D" + name + "=disabled"}[value]
	}
	return ""
}

var (
	flagsAssigned = pattern.New(`(?m)^(CFLAGS|CXXFLAGS|LDFLAGS)[ \t]*:?=[ \t]*(.*(?:\\\n.*)*)$`)
	ownFlag       = pattern.New(`^(-O.?|-g\S*|-W(?:[a-z].*)?|-pipe|-s|-m(?:arch|tune)=\S+)$`)
)

// flagArguments are the arguments of make that give it the flags of the target where the
// makefile assigns flags of its own; what the makefile adds beyond optimization and
// warnings stays.
func (t *tree) flagArguments() (out []string) {
	for _, name := range []string{"GNUmakefile", "makefile", "Makefile"} {
		text := t.read(name)
		if text == "" {
			continue
		}
		seen := map[string]bool{}
		for _, m := range flagsAssigned.FindAllStringSubmatch(text, -1) {
			value, _, _ := strings.Cut(strings.ReplaceAll(m[2], "\\\n", " "), "#")
			if seen[m[1]] || strings.ContainsAny(value, "$`\"'") {
				return nil // it is put together of parts, which an argument would replace
			}
			seen[m[1]] = true
			argument := m[1] + "=$" + m[1]
			for _, flag := range strings.Fields(value) {
				if !ownFlag.MatchString(flag) {
					argument += " " + flag
				}
			}
			out = append(out, argument)
		}
		return out
	}
	return nil
}
