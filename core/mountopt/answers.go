package mountopt

import "slices"

// Answers are what a running kernel says of options when it is asked and mounts nothing: ""
// for one that it takes, else its words.
type Answers map[string]string

// CheckBy is Check where a kernel was asked: of what it was asked about, it is right. What an
// option needs of the file system itself it says only when it mounts.
func (t Table) CheckBy(options []string, has Has, answers Answers) []Fault {
	out := t.Check(options, has)
	for o, words := range answers {
		i := slices.IndexFunc(out, func(f Fault) bool { return f.Option == o })
		row, _ := t.Find(o)
		known := i >= 0 && row.Needs != Memory && (out[i].Trouble == Unknown || out[i].Trouble == BadValue || out[i].Trouble == Untold)
		switch {
		case !slices.Contains(options, o):
		case words == "" && known:
			out = slices.Delete(out, i, i+1)
		case words == "" || i >= 0 && out[i].Trouble == Missing:
		case known:
			out[i].Says += " (" + words + ")"
			if out[i].Trouble == Untold {
				out[i].Trouble = Unknown
			}
		default:
			out = append(out, Fault{Option: o, Trouble: BadValue, Says: words})
		}
	}
	slices.SortStableFunc(out, func(a, b Fault) int { return slices.Index(options, a.Option) - slices.Index(options, b.Option) })
	return out
}
