package statement

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
)

// Step is a node of the database's plan for a statement, as EXPLAIN (ANALYZE, FORMAT JSON) tells it.
type Step struct {
	Type     string  `json:"Node Type"`
	Relation string  `json:"Relation Name"`
	Alias    string  `json:"Alias"`
	Index    string  `json:"Index Name"`
	Cost     float64 `json:"Total Cost"`
	Rows     float64 `json:"Actual Rows"`  // of one loop
	Loops    float64 `json:"Actual Loops"` // 0: it never ran
	Removed  float64 `json:"Rows Removed by Filter"`
	Filter   string  `json:"Filter"`
	Plans    []*Step `json:"Plans"`
}

// Scans reports whether the plan reads all of a table.
func (s *Step) Scans(table string) bool {
	return s.Type == "Seq Scan" && s.Relation == table || slices.ContainsFunc(s.Plans, func(p *Step) bool { return p.Scans(table) })
}

// Explained is what the database says about a statement that it has run.
type Explained struct {
	Plan *Step   `json:"Plan"`
	Took float64 `json:"Execution Time"` // in milliseconds
}

// ReadExplained reads the database's answer.
func ReadExplained(text []byte) (*Explained, error) {
	var list []*Explained
	if err := json.Unmarshal(text, &list); err != nil || len(list) != 1 || list[0].Plan == nil {
		return nil, fmt.Errorf("read the plan: %w", err)
	}
	return list[0], nil
}

// Advice says which index would spare the database work, and how much.
type Advice struct {
	Table   string   `json:"table"`
	Columns []string `json:"columns"`
	Read    int64    `json:"rows_read"`   // that the plan reads or sorts
	Wanted  int64    `json:"rows_wanted"` // of these
	Message string   `json:"message"`
}

// worthAnIndex is how many rows a plan must read in vain before an index is advised.
const worthAnIndex = 500

// Advise reads a plan against what the statement compares and sorts by: a table that is read whole for few of its rows, where
// no index begins with a column that would lead to them, and rows that are sorted for the first few, where no index has them in
// order. It says nothing where an index is there and the planner chose not to use it.
func (p *Plan) Advise(e *Explained) []Advice {
	var list []Advice
	var walk func(s *Step, limited float64)
	walk = func(s *Step, limited float64) {
		if a, ok := p.adviseScan(s); ok {
			list = append(list, a)
		} else if a, ok := p.adviseSort(s, limited); ok {
			list = append(list, a)
			return // an index for the order leads to the rows as well
		}
		if s.Type == "Limit" {
			limited = s.Rows
		} else if s.Type != "Sort" && s.Type != "Result" && s.Type != "Incremental Sort" {
			limited = -1
		}
		for _, inner := range s.Plans {
			walk(inner, limited)
		}
	}
	walk(e.Plan, -1)
	return list
}

func (p *Plan) adviseScan(s *Step) (Advice, bool) {
	u := p.Uses[s.Alias]
	if u == nil || s.Type != "Seq Scan" && s.Type != "Index Scan" || s.Loops == 0 { // by an index that only has them in order, too
		return Advice{}, false
	}
	read, wanted := (s.Rows+s.Removed)*s.Loops, s.Rows*s.Loops
	if s.Removed*s.Loops < worthAnIndex || wanted*5 > read {
		return Advice{}, false
	}
	columns := slices.Clone(u.Equal)
	if len(u.Ranges) > 0 {
		columns = appendNew(columns, u.Ranges[0])
	}
	if len(columns) == 0 || u.Table.Indexed(columns[0]) {
		return Advice{}, false
	}
	a := Advice{Table: u.Table.QualifiedName(), Columns: columns, Read: int64(read), Wanted: int64(wanted)}
	wants := fmt.Sprintf("for %d that are wanted", a.Wanted)
	if a.Wanted == 0 {
		wants = "and none is wanted"
	}
	a.Message = fmt.Sprintf("%d rows of %s are read %s; an index on (%s) would lead to those that are", a.Read, a.Table, wants,
		strings.Join(columns, ", "))
	return a, true
}

func (p *Plan) adviseSort(s *Step, limited float64) (Advice, bool) {
	if s.Type != "Sort" || limited < 0 || len(s.Plans) != 1 || s.Plans[0].Type != "Seq Scan" {
		return Advice{}, false
	}
	scan := s.Plans[0]
	u := p.Uses[scan.Alias]
	if u == nil || len(u.Order) == 0 || scan.Rows < worthAnIndex || limited*5 > scan.Rows {
		return Advice{}, false
	}
	first, _, _ := strings.Cut(u.Order[0], " ")
	if u.Table.Indexed(first) {
		return Advice{}, false
	}
	columns := append(slices.Clone(u.Equal), u.Order...)
	a := Advice{Table: u.Table.QualifiedName(), Columns: columns, Read: int64(scan.Rows), Wanted: int64(limited)}
	a.Message = fmt.Sprintf("%d rows of %s are sorted for the first %d; an index on (%s) has them in order", a.Read, a.Table, a.Wanted,
		strings.Join(columns, ", "))
	return a, true
}
