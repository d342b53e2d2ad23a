// Package problem holds the errors that the use cases return for people and programs: what is
// wrong, where, and what to do about it, with a code that stays. It also has the checks of names, labels
// and texts that all use cases share. It knows nothing of HTTP.
package problem
