// Package record holds the things that the service keeps as values: keys, instances, logins, grants,
// runs and what else there is, with the filters and pages by which they are asked for. How they are
// written and read is package store's; here is no input and no output, so that what shows them to
// people needs no database. The tags are GORM's, by which the store maps them to rows.
package record
