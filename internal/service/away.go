package service

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
)

// takenAway streams a list as a file to be taken away: all that a filter leaves, not a page of it.
// as is csv or json.
func takenAway[T any](c *gin.Context, as, name string, each func(yield func(T) error) error) error {
	var write func(T) error
	var end func() error
	switch as {
	case "json":
		c.Header("Content-Type", "application/json")
		sep := "["
		write = func(v T) error {
			raw, err := json.Marshal(v)
			if err == nil {
				_, err = fmt.Fprintf(c.Writer, "%s\n%s", sep, raw)
			}
			sep = ","
			return err
		}
		end = func() error {
			_, err := fmt.Fprint(c.Writer, strings.Replace(sep, ",", "", 1)+"\n]\n")
			return err
		}
	case "csv":
		c.Header("Content-Type", "text/csv; charset=utf-8")
		heads, cells := columnsOf(reflect.TypeFor[T]())
		w := csv.NewWriter(c.Writer)
		w.UseCRLF = true // RFC 4180
		if err := w.Write(heads); err != nil {
			return err
		}
		write = func(v T) error { return w.Write(cells(reflect.ValueOf(v))) }
		end = func() error { w.Flush(); return w.Error() }
	default:
		return badQuery("as", as, "it is csv or json")
	}
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", name+"."+as))
	control := http.NewResponseController(c.Writer)
	n := 0
	err := each(func(v T) error {
		if n++; n%1000 == 1 { // each piece has its own time
			control.SetWriteDeadline(time.Now().Add(answerTime))
		}
		return write(v)
	})
	if err != nil && !c.Writer.Written() {
		return err
	}
	if err == nil {
		err = end()
	}
	if err != nil { // what is cut short must not look whole
		panic(http.ErrAbortHandler)
	}
	return nil
}

// columnsOf gives the columns of a record: its fields, those of what it is made of among them.
func columnsOf(t reflect.Type) (heads []string, cells func(v reflect.Value) []string) {
	var fields [][]int
	for _, f := range reflect.VisibleFields(t) {
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if f.Anonymous || name == "" || name == "-" {
			continue
		}
		heads, fields = append(heads, name), append(fields, f.Index)
	}
	return heads, func(v reflect.Value) []string {
		row := make([]string, len(fields))
		for i, index := range fields {
			row[i] = cell(v.FieldByIndex(index))
		}
		return row
	}
}

// cell writes a value. What a spreadsheet would take for a formula is made text.
func cell(v reflect.Value) string {
	text := ""
	switch x := v.Interface().(type) {
	case string:
		text = x
	case time.Time:
		text = x.UTC().Format(time.RFC3339)
	case *time.Time:
		if x != nil {
			text = x.UTC().Format(time.RFC3339)
		}
	case []string:
		text = strings.Join(x, " ")
	default:
		switch v.Kind() {
		case reflect.String:
			text = v.String()
		case reflect.Map, reflect.Slice, reflect.Struct, reflect.Pointer:
			raw, _ := json.Marshal(x)
			if text = string(raw); text == "null" {
				text = ""
			}
		default:
			return fmt.Sprint(x)
		}
	}
	if text != "" && strings.ContainsRune("=+-@\t\r", rune(text[0])) {
		text = "'" + text
	}
	return text
}
