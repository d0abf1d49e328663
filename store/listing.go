package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"wardicon/api"
	"wardicon/core/vpn"
)

// listing says how a list is selected: from is the table, joins what its rows are shown
// with (always on a key), cols what is selected, scan reads one row.
type listing[Row any] struct {
	from, joins, cols string
	id                string // the column of the identifier
	scan              func(scan scanner) (Row, error)
	search            []string // columns that a search looks into
	// noun of texts -> the column that has its identifier; where a search goes by an index
	hits  map[string]string
	sorts map[string]string // name of an order -> its SQL
	first string            // the order where none is asked for
	// name of a filter -> its SQL condition with one ?, ?flag, ?days or ?time
	filters map[string]string
	size    string // name of the kept count of all rows
}

// Query selects a page of a list.
type Query struct {
	Search string
	Sort   string // name of an order; a minus in front turns it round
	Limit  int
	Offset int
	// the identifier of a row: the page begins with the one after it, and Offset does not count
	After      string
	Conditions map[string]string // filters by name
	Twice      string            // a filter that was given two values: it is refused
}

// Filter sets the conditions from their texts, such as platform:windows.
func (q *Query) Filter(list []string) {
	q.Conditions = map[string]string{}
	for _, condition := range list {
		name, value, _ := strings.Cut(condition, ":")
		if _, there := q.Conditions[name]; there {
			q.Twice = name
		}
		q.Conditions[name] = value
	}
}

// Bounds of what a page costs.
const (
	mostCounted = 1_000 // rows that a filter fits are counted up to here
	// records that a search finds by its index; more are looked for along the order
	mostHits     = 300
	mostDense    = 200 // rows of such a search are counted up to here
	mostGathered = 300 // rows that are brought into order; more are read along it
	leastIndexed = 3   // characters that the index of texts takes
)

// QueryError says which part of a query is not known.
type QueryError struct {
	Part, Found string
	Expected    []string
}

func (e *QueryError) Error() string {
	if len(e.Expected) <= 2 {
		return fmt.Sprintf(
			"%s: found %q, expected %s",
			e.Part,
			e.Found,
			strings.Join(e.Expected, " or "),
		)
	}
	return fmt.Sprintf(
		"%s: found %q, expected one of %s",
		e.Part,
		e.Found,
		strings.Join(e.Expected, ", "),
	)
}

// Kind tells the kind of the error.
func (e *QueryError) Kind() vpn.Kind { return vpn.KindQuery }

// selected are the conditions of a query.
type selected struct {
	conditions []string
	args       []any
	dense      bool // most rows fit: they are found along the order sooner than by an index
}

func (c *selected) add(condition string, args ...any) {
	c.conditions, c.args = append(c.conditions, "("+condition+")"), append(c.args, args...)
}

func (c *selected) where() string {
	if len(c.conditions) == 0 {
		return "1"
	}
	return strings.Join(c.conditions, " AND ")
}

var (
	equality = regexp.MustCompile(`^\(([a-z]\.[a-z_]+ (?:=|IN|>=|<|BETWEEN) ?)`)
	member   = regexp.MustCompile(
		`^\(([a-z]\.[a-z_]+) IN \(SELECT (\w+) FROM (\w+) WHERE (.*)\)\)$`,
	)
)

// along is where, for a reading along the order: each row is tested, and no index of a condition is
// taken.
func (c *selected) along() string {
	list := slices.Clone(c.conditions)
	for i := range list {
		list[i] = member.ReplaceAllString(
			list[i],
			"(EXISTS (SELECT 1 FROM $3 WHERE $4 AND $2 = $1))",
		)
		list[i] = equality.ReplaceAllString(list[i], "(+$1")
	}
	return (&selected{conditions: list}).where()
}

// List reads a page. It costs about as much whatever the list's size: rows that a filter fits are
// counted to a bound, brought into order where they are few, and read along the order where they
// are many.
func (t *Table[T, Row]) List(ctx context.Context, tx *Tx, query Query) (api.Page[Row], error) {
	page := api.Page[Row]{Items: []Row{}}
	by, err := t.list.order(query.Sort)
	if err != nil {
		return page, err
	}
	c, err := t.list.selection(ctx, tx, query)
	if err != nil {
		return page, err
	}
	if err := t.count(ctx, tx, c, query, &page.Total, &page.More); err != nil {
		return page, err
	}
	where := c.where()
	if c.dense || page.Total > mostGathered {
		where = c.along()
	}
	args, offset, limit := c.args, query.Offset, query.Limit
	flipped := false
	switch {
	case query.After != "":
		condition, more, err := t.beyond(ctx, tx, by, query.After)
		if err != nil {
			return page, err
		}
		where, args, offset = where+" AND "+condition, append(slices.Clone(args), more...), 0
	case !page.More && offset > page.Total/2: // the end is nearer
		flipped = true
		limit = max(0, min(limit, page.Total-offset))
		offset = page.Total - offset - limit
		by = by.flipped()
	}
	if page.Items, err = t.page(ctx, tx, where, by, args, limit, offset); err != nil {
		return page, err
	}
	if flipped {
		slices.Reverse(page.Items)
	}
	if seen := query.Offset + len(
		page.Items,
	); query.After == "" && len(page.Items) > 0 &&
		seen > page.Total {
		page.Total = seen
	}
	return page, nil
}

// page reads rows. Those that are passed over are only counted off; what is shown is read for the
// page alone. Joins to the left that are not asked for are left out by SQLite.
func (t *Table[T, Row]) page(
	ctx context.Context,
	tx *Tx,
	where string,
	by order,
	args []any,
	limit, offset int,
) ([]Row, error) {
	l := &t.list
	onPage := "SELECT " + l.id + " FROM " + l.from + " " + l.joins + " WHERE " + where +
		" ORDER BY " + by.text() + " LIMIT ? OFFSET ?"
	return collect(ctx, tx, l.scan,
		"SELECT "+l.cols+" FROM "+l.from+" "+l.joins+" WHERE "+l.id+" IN ("+onPage+") ORDER BY "+
			by.text(),
		append(slices.Clone(args), limit, offset)...)
}

// count counts the rows that a query fits, to a bound; all of a list have a kept count.
func (t *Table[T, Row]) count(
	ctx context.Context,
	tx *Tx,
	c *selected,
	query Query,
	total *int,
	more *bool,
) error {
	if len(c.conditions) == 0 && t.list.size != "" {
		n, err := tx.Size(ctx, t.list.size)
		*total = n
		return err
	}
	most, where := mostCounted, c.where()
	if len(c.conditions) == 0 { // a whole list is counted whole
		most = math.MaxInt32
	}
	if c.dense {
		most, where = max(mostDense, query.Offset+query.Limit), c.along()
	}
	from := t.list.from
	if t.list.elsewhere(where) {
		from += " " + t.list.joins
	}
	err := tx.q.QueryRowContext(ctx, "SELECT COUNT(*) FROM (SELECT 1 FROM "+from+" WHERE "+where+
		" LIMIT ?)", append(slices.Clone(c.args), most+1)...).
		Scan(total)
	if err != nil {
		return fmt.Errorf("database: %w", err)
	}
	*more, *total = *total > most, min(*total, most)
	return nil
}

// Size is a kept count.
func (tx *Tx) Size(ctx context.Context, name string) (n int, err error) {
	err = tx.q.QueryRowContext(ctx, `SELECT n FROM sizes WHERE name = ?`, name).Scan(&n)
	return n, err
}

// selection reads filters and search of a query.
func (l *listing[Row]) selection(ctx context.Context, tx *Tx, query Query) (*selected, error) {
	c := &selected{}
	if query.Twice != "" {
		return nil, &QueryError{"filter " + query.Twice, "two values", []string{"one value"}}
	}
	for _, name := range keys(query.Conditions) {
		condition, ok := l.filters[name]
		if !ok {
			return nil, &QueryError{"filter", name, keys(l.filters)}
		}
		condition, arg, err := settled(name, condition, query.Conditions[name])
		if err != nil {
			return nil, err
		}
		c.add(condition, arg)
		if m := member.FindStringSubmatch("(" + condition + ")"); m != nil && !c.dense {
			// Members without number are told one by one along the order sooner than gathered.
			if err := tx.q.QueryRowContext(ctx, "SELECT COUNT(*) > ? FROM (SELECT 1 FROM "+m[3]+
				" WHERE "+m[4]+" LIMIT ?)", mostHits, arg, mostHits+1).
				Scan(&c.dense); err != nil {
				return nil, fmt.Errorf("database: %w", err)
			}
		}
	}
	if query.Search == "" {
		return c, nil
	}
	if len(l.hits) > 0 && utf8.RuneCountInString(query.Search) >= leastIndexed {
		if found, err := l.hit(ctx, tx, c, query.Search); err != nil || found {
			return c, err
		}
	}
	c.dense = c.dense || len(l.hits) > 0
	var either []string
	var args []any
	for _, column := range l.search {
		either, args = append(
			either,
			column+` LIKE ? ESCAPE '\'`,
		), append(
			args,
			holds(query.Search),
		)
	}
	c.add(strings.Join(either, " OR "), args...)
	return c, nil
}

// hit finds what a search is for by the index of texts; false where it fits too many.
func (l *listing[Row]) hit(ctx context.Context, tx *Tx, c *selected, search string) (bool, error) {
	var either []string
	var args []any
	phrase := `"` + strings.ReplaceAll(search, `"`, `""`) + `"`
	for _, noun := range keys(l.hits) {
		records, err := tx.names(
			ctx,
			`SELECT record FROM texts WHERE n IN (SELECT rowid FROM `+noun+`_texts WHERE `+noun+
				`_texts MATCH ? LIMIT ?)`,
			phrase,
			mostHits+1,
		)
		if err != nil {
			return false, err
		}
		if len(records) > mostHits {
			return false, nil
		}
		if len(records) == 0 {
			continue
		}
		list, err := json.Marshal(records)
		if err != nil {
			return false, err
		}
		either, args = append(
			either,
			l.hits[noun]+" IN (SELECT value FROM json_each(?))",
		), append(
			args,
			string(list),
		)
	}
	if len(either) == 0 {
		either = []string{"0"}
	}
	c.add(strings.Join(either, " OR "), args...)
	return true, nil
}

// order is what rows are sorted by.
type order []ordered

type ordered struct {
	column string
	down   bool
}

func (l *listing[Row]) order(name string) (order, error) {
	asked, down := strings.CutPrefix(name, "-")
	if asked == "" {
		asked = l.first
	}
	text, ok := l.sorts[asked]
	if !ok {
		return nil, &QueryError{"sort", name, keys(l.sorts)}
	}
	var by order
	for part := range strings.SplitSeq(text, ", ") {
		column, desc := strings.CutSuffix(strings.TrimSuffix(part, " ASC"), " DESC")
		by = append(by, ordered{column, desc})
	}
	if down {
		by = by.flipped()
	}
	return by, nil
}

func (by order) flipped() order {
	list := slices.Clone(by)
	for i := range list {
		list[i].down = !list[i].down
	}
	return list
}

func (by order) text() string {
	var list []string
	for _, o := range by {
		list = append(list, o.column+map[bool]string{false: " ASC", true: " DESC"}[o.down])
	}
	return strings.Join(list, ", ")
}

// beyond is the condition for what comes after a row in an order.
func (t *Table[T, Row]) beyond(
	ctx context.Context,
	tx *Tx,
	by order,
	id string,
) (condition string, args []any, err error) {
	columns := make([]string, len(by))
	values := make([]any, len(by))
	into := make([]any, len(by))
	for i, o := range by {
		columns[i], into[i] = o.column, &values[i]
	}
	err = tx.q.QueryRowContext(ctx, "SELECT "+strings.Join(columns, ", ")+" FROM "+t.list.from+" "+
		t.list.joins+" WHERE "+t.list.id+" = ?", id).
		Scan(into...)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil, &QueryError{"after", id, []string{"the identifier of a row of this list"}}
	}
	if err != nil {
		return "", nil, fmt.Errorf("database: %w", err)
	}
	sign := func(o ordered) string { return map[bool]string{false: " > ", true: " < "}[o.down] }
	if !slices.ContainsFunc(by, func(o ordered) bool { return o.down != by[0].down }) {
		return "(" + strings.Join(
			columns,
			", ",
		) + ")" + sign(
			by[0],
		) + "(?" + strings.Repeat(
			", ?",
			len(by)-1,
		) + ")", values, nil
	}
	// Orders that go up and down: the first column that differs decides.
	var cases []string
	for i, o := range by {
		one := ""
		for k := range i {
			one, args = one+columns[k]+" = ? AND ", append(args, values[k])
		}
		cases, args = append(cases, one+o.column+sign(o)+"?"), append(args, values[i])
	}
	return "(" + strings.Join(cases, " OR ") + ")", args, nil
}

// holds is the LIKE pattern of a text that holds another, whose own signs mean nothing;
// it goes with ESCAPE '\'.
func holds(text string) string {
	return "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text) + "%"
}

var alias = regexp.MustCompile(`\b([a-z])\.[a-z]`)

// elsewhere tells whether a condition looks at another table than the list's own.
func (l *listing[Row]) elsewhere(where string) bool {
	for _, m := range alias.FindAllStringSubmatch(where, -1) {
		if !strings.HasPrefix(l.id, m[1]+".") {
			return true
		}
	}
	return false
}

// settled reads the value of a filter as its condition wants it: ?flag is true or false, ?days a
// number of days, ?time a day or an instant (RFC 3339, section 5.6). A plain ? takes any text.
func settled(name, condition, value string) (text string, arg any, err error) {
	kind := typed.FindString(condition)
	refused := func(expected ...string) error {
		return &QueryError{"filter " +
			name, value, expected}
	}
	switch kind {
	case "":
		return condition, value, nil
	case "?flag":
		switch value {
		case "true":
			arg = 1
		case "false":
			arg = 0
		default:
			return "", nil, refused("true", "false")
		}
	case "?days":
		n, err := strconv.Atoi(value)
		if err != nil || n < 0 || n > mostDays {
			return "", nil, refused(fmt.Sprintf("a number of days from 0 to %d", mostDays))
		}
		arg = n
	case "?time":
		at, err := time.Parse(time.RFC3339, value)
		if err != nil {
			at, err = time.Parse(time.DateOnly, value)
		}
		if err != nil {
			return "", nil, refused(
				"a day such as 2026-11-28",
				"an instant such as 2026-11-28T09:30:00Z",
			)
		}
		arg = millis(at)
	}
	return strings.Replace(condition, kind, "?", 1), arg, nil
}

var typed = regexp.MustCompile(`\?[a-z]+`)

// mostDays bounds a filter that counts days: a hundred years.
const mostDays = 36525
