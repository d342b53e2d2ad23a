package machines

import "plumlatch/internal/core/name"

// NameFor is what an instance of a cloud is recorded as: by the name that it has there, made fit, or else by its id;
// with the end of its id where another has that name already.
func NameFor(called, id string, taken func(string) bool) string {
	fit := name.Suggest(called)
	if called == "" || name.Check(fit) != nil {
		fit = name.Suggest(id)
	}
	if !taken(fit) {
		return fit
	}
	end := id[max(0, len(id)-6):]
	return name.Suggest(fit[:min(len(fit), name.MaxLength-1-len(end))] + "-" + end)
}
