package main

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
)

// newCall is the body of a deep insert: one port call with 50 cargo items, tied to three tugs.
var newCall = func() string {
	items := make([]string, 50)
	for i := range items {
		items[i] = fmt.Sprintf(`{"description":"Oats, lot %d","hs_code":"100400","tonnes":12.5}`, i)
	}
	return `{"vessel_id":VESSEL,"eta":"2026-07-09T12:00:00Z","draught_m":5.5,"cargo_items":[` + strings.Join(items, ",") +
		`],"tugs":[{"@id":"tugs/1"},{"@id":"tugs/2"},{"@id":"tugs/3"}]}`
}()

const deepShown = "select=id,vessel_id,eta,draught_m&expand=cargo_items(select=id,description,hs_code,tonnes;orderby=id)," +
	"tugs(select=id,name;orderby=id)"

type deepCall struct {
	ID       int32      `json:"id"`
	VesselID int32      `json:"vessel_id"`
	ETA      time.Time  `json:"eta"`
	DraughtM float64    `json:"draught_m"`
	Items    []deepItem `json:"cargo_items"`
	Tugs     []deepTug  `json:"tugs"`
}

type deepItem struct {
	ID          int32   `json:"id"`
	Description string  `json:"description"`
	HSCode      string  `json:"hs_code"`
	Tonnes      float64 `json:"tonnes"`
}

type deepTug struct {
	Ref  string `json:"@id,omitempty"`
	ID   int32  `json:"id"`
	Name string `json:"name"`
}

const (
	deepInsert = "insert into harbour.port_call (vessel_id, eta, draught_m) values ($1, $2, $3) returning id"
	itemInsert = "insert into harbour.cargo_item (port_call_id, description, hs_code, tonnes) values ($1, $2, $3, $4) returning id"
	tugLink    = "insert into harbour.port_call_tug (port_call_id, tug_id) values ($1, $2)"
	tugsOfCall = "select id, name from harbour.tug join harbour.port_call_tug on tug_id = id where port_call_id = $1 order by id"
)

// deep inserts a port call with its items and tugs as a good engineer would by hand: in one transaction, the rows below the call as one
// batch.
func (h hand) deep(w http.ResponseWriter, r *http.Request) {
	h.deepBy(w, r, func(tx pgx.Tx, call *deepCall) error {
		b := &pgx.Batch{}
		for i := range call.Items {
			item := &call.Items[i]
			b.Queue(itemInsert, call.ID, item.Description, item.HSCode, item.Tonnes).QueryRow(func(row pgx.Row) error { return row.Scan(&item.ID) })
		}
		for _, tug := range call.Tugs {
			b.Queue(tugLink, call.ID, tug.ID)
		}
		b.Queue(tugsOfCall, call.ID).Query(func(rows pgx.Rows) (err error) {
			call.Tugs, err = tugsOf(rows)
			return err
		})
		return tx.SendBatch(r.Context(), b).Close()
	})
}

// deepRows does the same row by row.
func (h hand) deepRows(w http.ResponseWriter, r *http.Request) {
	h.deepBy(w, r, func(tx pgx.Tx, call *deepCall) error {
		for i := range call.Items {
			item := &call.Items[i]
			if err := tx.QueryRow(r.Context(), itemInsert, call.ID, item.Description, item.HSCode, item.Tonnes).Scan(&item.ID); err != nil {
				return err
			}
		}
		for _, tug := range call.Tugs {
			if _, err := tx.Exec(r.Context(), tugLink, call.ID, tug.ID); err != nil {
				return err
			}
		}
		rows, err := tx.Query(r.Context(), tugsOfCall, call.ID)
		if err != nil {
			return err
		}
		call.Tugs, err = tugsOf(rows)
		return err
	})
}

func tugsOf(rows pgx.Rows) ([]deepTug, error) {
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (t deepTug, err error) {
		err = row.Scan(&t.ID, &t.Name)
		return t, err
	})
}

func (h hand) deepBy(w http.ResponseWriter, r *http.Request, below func(pgx.Tx, *deepCall) error) {
	var call deepCall
	if err := json.NewDecoder(r.Body).Decode(&call); err != nil {
		http.Error(w, "bad body", http.StatusBadRequest)
		return
	}
	for i, tug := range call.Tugs {
		id, err := strconv.Atoi(strings.TrimPrefix(tug.Ref, "tugs/"))
		if err != nil {
			http.Error(w, "bad tug", http.StatusBadRequest)
			return
		}
		call.Tugs[i].ID = int32(id)
	}
	err := pgx.BeginFunc(r.Context(), h.pool, func(tx pgx.Tx) error {
		if err := tx.QueryRow(r.Context(), deepInsert, call.VesselID, call.ETA, call.DraughtM).Scan(&call.ID); err != nil {
			return err
		}
		return below(tx, &call)
	})
	if err == nil {
		w.Header().Set("Location", "/port_calls/"+strconv.Itoa(int(call.ID)))
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusCreated)
	}
	answer(w, call, err)
}
