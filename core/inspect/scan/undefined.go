package scan

import (
	"debug/elf"
	"io"
	"slices"
)

// Undefined lists the names of the symbols that a program or library takes
// from others, sorted: those that must be there, and those that it can do
// without (weak ones). It is what `nm -D --undefined-only` lists as U and w.
func Undefined(r io.ReaderAt) (strong, weak []string, err error) {
	f, err := elf.NewFile(r)
	if err != nil {
		return nil, nil, err
	}
	all, err := f.DynamicSymbols()
	if err != nil {
		return nil, nil, err
	}
	for _, s := range all {
		if s.Section != elf.SHN_UNDEF || s.Name == "" {
			continue
		}
		if elf.ST_BIND(s.Info) == elf.STB_WEAK {
			weak = append(weak, s.Name)
		} else {
			strong = append(strong, s.Name)
		}
	}
	slices.Sort(strong)
	slices.Sort(weak)
	return slices.Compact(strong), slices.Compact(weak), nil
}
