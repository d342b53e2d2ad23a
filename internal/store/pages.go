package store

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"plumlatch/internal/record"
)

// ErrCursor is returned for a cursor that no page gave.
var ErrCursor = errors.New("the cursor is not one that a page gave")

func encodeCursor(parts ...string) string {
	data, _ := json.Marshal(parts) // strings always encode
	return base64.RawURLEncoding.EncodeToString(data)
}

func decodeCursor(s string, n int) ([]string, error) {
	data, err := base64.RawURLEncoding.DecodeString(s)
	if err != nil {
		return nil, ErrCursor
	}
	var parts []string
	if json.Unmarshal(data, &parts) != nil || len(parts) != n {
		return nil, ErrCursor
	}
	return parts, nil
}

// fits reports whether a part of a cursor is of the kind that the column is of, so that the
// database takes it.
func fits(column, part string) bool {
	name := column[strings.LastIndexByte(column, '.')+1:]
	var err error
	switch {
	case name == "created_at":
		_, err = time.Parse(time.RFC3339Nano, part)
	case name == "id":
		_, err = uuid.Parse(part)
	case name == "seq":
		_, err = strconv.ParseInt(part, 10, 64)
	default:
		return !strings.ContainsRune(part, 0) // the decoder makes all of it UTF-8
	}
	return err == nil
}

// order is one way to sort a list: by the columns, which together are unique.
type order struct {
	columns []string
	down    bool
}

// orders are the sorts that lists of named things offer. The empty one is by name.
func ordersOf(table string) map[string]order {
	name, created := []string{table + ".name"}, []string{table + ".created_at", table + ".id"}
	return map[string]order{
		"": {columns: name}, "name": {columns: name}, "-name": {columns: name, down: true},
		"created": {columns: created}, "-created": {columns: created, down: true},
	}
}

// ErrSort is returned for an order that a list does not offer.
var ErrSort = errors.New("the order is not one of name, -name, created, -created")

// seek narrows q to what comes after the cursor, in the order, and one more
// than the page holds, to see whether there is another.
func seek(q *gorm.DB, o order, p record.Page) (*gorm.DB, error) {
	direction, compare := "", ">"
	if o.down {
		direction, compare = " DESC", "<"
	}
	if p.After != "" {
		parts, err := decodeCursor(p.After, len(o.columns))
		if err != nil {
			return nil, err
		}
		values := make([]any, len(parts))
		for i := range parts {
			if !fits(o.columns[i], parts[i]) {
				return nil, ErrCursor
			}
			values[i] = parts[i]
		}
		marks := strings.TrimSuffix(strings.Repeat("?, ", len(values)), ", ")
		q = q.Where("("+strings.Join(o.columns, ", ")+") "+compare+" ("+marks+")", values...)
	}
	return q.Order(strings.Join(o.columns, direction+", ") + direction).Limit(p.Limit + 1), nil
}

// cut drops the entry beyond the page and makes the next cursor from the last
// one that is left.
func cut[T any](items []T, p record.Page, cursor func(T) []string) record.List[T] {
	l := record.List[T]{Items: items}
	if len(items) > p.Limit {
		l.Items = items[:p.Limit]
		l.Next = encodeCursor(cursor(l.Items[p.Limit-1])...)
	}
	return l
}

func stamp(t time.Time) string { return t.UTC().Format(time.RFC3339Nano) }

// like turns a search text into a pattern that matches it anywhere.
func like(text string) string {
	return "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text) + "%"
}
