package cli

import (
	"os"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"
	xterm "golang.org/x/term"
)

// maxHelpWidth is the widest that help texts are set: longer lines are hard to read.
const maxHelpWidth = 88

// helpWidth is the width of the terminal, or what $COLUMNS says away from one.
func helpWidth() int {
	width := 80
	if columns, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && columns > 0 {
		width = columns
	}
	if w, _, err := xterm.GetSize(int(os.Stdout.Fd())); err == nil && w > 0 {
		width = w
	}
	return min(width, maxHelpWidth)
}

// reflow sets paragraphs to a width. Indented ones, such as examples, are kept.
func reflow(text string, width int) string {
	paragraphs := strings.Split(strings.TrimSpace(text), "\n\n")
	for i, p := range paragraphs {
		if !strings.HasPrefix(p, " ") {
			paragraphs[i] = setWords(strings.Fields(p), width)
		}
	}
	return strings.Join(paragraphs, "\n\n")
}

// setWords sets words in lines of at most width characters.
func setWords(words []string, width int) string {
	var b strings.Builder
	column := 0
	for _, word := range words {
		n := utf8.RuneCountInString(word)
		switch {
		case column == 0:
		case column+1+n > width:
			b.WriteByte('\n')
			column = 0
		default:
			b.WriteByte(' ')
			column++
		}
		b.WriteString(word)
		column += n
	}
	return b.String()
}

// formatHelp makes help texts fit the terminal.
func formatHelp(root *cobra.Command) {
	cobra.AddTemplateFunc("reflow", func(text string) string { return reflow(text, helpWidth()) })
	cobra.AddTemplateFunc("width", helpWidth)
	root.SetHelpTemplate("{{with (or .Long .Short)}}{{reflow .}}\n\n{{end}}{{if or .Runnable .HasSubCommands}}{{.UsageString}}{{end}}")
	usage := root.UsageTemplate()
	usage = strings.ReplaceAll(usage, ".LocalFlags.FlagUsages", ".LocalFlags.FlagUsagesWrapped width")
	usage = strings.ReplaceAll(usage, ".InheritedFlags.FlagUsages", ".InheritedFlags.FlagUsagesWrapped width")
	root.SetUsageTemplate(usage)
}
