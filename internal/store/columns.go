package store

import (
	"reflect"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"
)

// Every object has one mapping: the struct that its rows are read into, whose fields are
// named as the columns are (SettleMs is settle_ms). Statements are written from it.

// columns are names of columns.
type columns []string

// columnsOf are those of a row, in the order of its fields; embedded structs are taken apart.
func columnsOf[T any]() columns {
	var all columns
	for _, f := range reflect.VisibleFields(reflect.TypeFor[T]()) {
		if !f.Anonymous {
			all = append(all, columnOf(f.Name))
		}
	}
	return all
}

// columnOf is the column of a field: a capital after a small letter begins a word.
func columnOf(field string) string {
	var b strings.Builder
	for i, c := range field {
		if i > 0 && 'A' <= c && c <= 'Z' && 'a' <= field[i-1] && field[i-1] <= 'z' {
			b.WriteByte('_')
		}
		b.WriteRune(c)
	}
	return strings.ToLower(b.String())
}

// but are all columns but those named.
func (c columns) but(names ...string) columns {
	return slices.DeleteFunc(slices.Clone(c), func(name string) bool { return slices.Contains(names, name) })
}

// each writes something of every column, with commas between.
func (c columns) each(write func(quoted, name string) string) string {
	parts := make([]string, len(c))
	for i, name := range c {
		parts[i] = write(pgx.Identifier{name}.Sanitize(), name)
	}
	return strings.Join(parts, ", ")
}

// list is for a select; of is the table's short name and a dot, or nothing.
func (c columns) list(of string) string {
	return c.each(func(quoted, _ string) string { return of + quoted })
}

// assigned is for an update from [values].
func (c columns) assigned() string {
	return c.each(func(quoted, name string) string { return quoted + " = @" + name })
}

// taken is for an update on a conflict: what was to be inserted.
func (c columns) taken() string {
	return c.each(func(quoted, _ string) string { return quoted + " = excluded." + quoted })
}

// insert is a statement that inserts these columns from [values].
func (c columns) insert(table string) string {
	return "insert into " + table + " (" + c.list("") + ") values (" + c.each(func(_, name string) string { return "@" + name }) + ")"
}

// values are those of the rows' fields, by column. A list or map that is nil is empty.
func values(rows ...any) pgx.NamedArgs {
	args := pgx.NamedArgs{}
	for _, row := range rows {
		v := reflect.ValueOf(row)
		for _, f := range reflect.VisibleFields(v.Type()) {
			if f.Anonymous {
				continue
			}
			field := v.FieldByIndex(f.Index)
			switch {
			case field.Kind() == reflect.Slice && field.IsNil():
				field = reflect.MakeSlice(field.Type(), 0, 0)
			case field.Kind() == reflect.Map && field.IsNil():
				field = reflect.MakeMap(field.Type())
			}
			args[columnOf(f.Name)] = field.Interface()
		}
	}
	return args
}
