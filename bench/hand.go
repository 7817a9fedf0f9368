package main

import (
	"encoding/json"
	"net/http"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/jackc/pgx/v5/pgxpool"
)

// The handlers that Eager Window is measured against: what a good engineer would write by hand for these endpoints, with chi,
// pgx, its pool and its prepared statements, structs and encoding/json. They check no permissions.

type portCall struct {
	ID        int32      `json:"id"`
	VesselID  int32      `json:"vessel_id"`
	BerthCode *string    `json:"berth_code"`
	Status    string     `json:"status"`
	ETA       time.Time  `json:"eta"`
	ETD       *time.Time `json:"etd"`
	ArrivedAt *time.Time `json:"arrived_at"`
	Draught   float64    `json:"draught_m"`
	Hazardous bool       `json:"hazardous"`
}

type portCallWithCargo struct {
	portCall
	CargoItems []cargoItem `json:"cargo_items"`
}

type cargoItem struct {
	ID          int32   `json:"id"`
	PortCallID  int32   `json:"-"`
	Description string  `json:"description"`
	Tonnes      float64 `json:"tonnes"`
}

type page[T any] struct {
	Value []T `json:"value"`
}

const columns = "id, vessel_id, berth_code, status, eta, etd, arrived_at, draught_m, hazardous"

type hand struct{ pool *pgxpool.Pool }

func (h hand) routes() http.Handler {
	r := chi.NewRouter()
	r.Get("/port_calls", h.list)
	r.Get("/port_calls/{id}", h.one)
	r.Patch("/port_calls/{id}", h.change)
	r.Post("/cargo_items", h.create)
	r.Post("/port_calls", h.deep)
	r.Post("/port_calls_row_by_row", h.deepRows)
	r.Get("/with_cargo", h.withCargo)
	r.Get("/floor", h.floor)
	return r
}

func limit(r *http.Request) int {
	n, err := strconv.Atoi(r.URL.Query().Get("top"))
	if err != nil || n < 0 || n > 1000 {
		return 50
	}
	return n
}

func answer(w http.ResponseWriter, v any, err error) {
	if err != nil {
		http.Error(w, "internal error", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v)
}

func (h hand) list(w http.ResponseWriter, r *http.Request) {
	rows, err := h.pool.Query(r.Context(), "select "+columns+" from harbour.port_call where status = $1 order by eta desc, id limit $2",
		r.URL.Query().Get("status"), limit(r))
	if err != nil {
		answer(w, nil, err)
		return
	}
	list, err := pgx.CollectRows(rows, pgx.RowToStructByPos[portCall])
	answer(w, page[portCall]{list}, err)
}

func (h hand) one(w http.ResponseWriter, r *http.Request) {
	id, err := strconv.Atoi(chi.URLParam(r, "id"))
	if err != nil {
		http.Error(w, "bad id", http.StatusBadRequest)
		return
	}
	rows, err := h.pool.Query(r.Context(), "select "+columns+" from harbour.port_call where id = $1", id)
	if err != nil {
		answer(w, nil, err)
		return
	}
	one, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[portCall])
	answer(w, one, err)
}

type newCargo struct {
	PortCallID  int32   `json:"port_call_id"`
	Description string  `json:"description"`
	HSCode      string  `json:"hs_code"`
	Tonnes      float64 `json:"tonnes"`
}

type storedCargo struct {
	ID int32 `json:"id"`
	newCargo
	DangerousClass *string                    `json:"dangerous_class"`
	Stowage        *pgtype.Range[pgtype.Int4] `json:"stowage"`
}

func (h hand) create(w http.ResponseWriter, r *http.Request) {
	var in newCargo
	if err := json.NewDecoder(r.Body).Decode(&in); err != nil {
		http.Error(w, "bad body", http.StatusBadRequest)
		return
	}
	rows, err := h.pool.Query(r.Context(), "insert into harbour.cargo_item (port_call_id, description, hs_code, tonnes) values ($1, $2, "+
		"$3, $4) returning id, port_call_id, description, hs_code, tonnes, dangerous_class, stowage",
		in.PortCallID, in.Description, in.HSCode, in.Tonnes)
	if err != nil {
		answer(w, nil, err)
		return
	}
	one, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[storedCargo])
	w.Header().Set("Location", "/cargo_items/"+strconv.Itoa(int(one.ID)))
	if err == nil {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusCreated)
	}
	answer(w, one, err)
}

func (h hand) change(w http.ResponseWriter, r *http.Request) {
	id, err := strconv.Atoi(chi.URLParam(r, "id"))
	if err != nil {
		http.Error(w, "bad id", http.StatusBadRequest)
		return
	}
	var in struct {
		ETD     *time.Time `json:"etd"`
		Remarks *string    `json:"remarks"`
	}
	if err := json.NewDecoder(r.Body).Decode(&in); err != nil {
		http.Error(w, "bad body", http.StatusBadRequest)
		return
	}
	rows, err := h.pool.Query(r.Context(),
		"update harbour.port_call set etd = coalesce($2, etd), remarks = coalesce($3, remarks) where id = $1 returning "+columns, id, in.ETD,
		in.Remarks)
	if err != nil {
		answer(w, nil, err)
		return
	}
	one, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByPos[portCall])
	answer(w, one, err)
}

func (h hand) withCargo(w http.ResponseWriter, r *http.Request) {
	rows, err := h.pool.Query(r.Context(), "select "+columns+" from harbour.port_call where status = $1 order by eta desc, id limit $2",
		r.URL.Query().Get("status"), limit(r))
	if err != nil {
		answer(w, nil, err)
		return
	}
	calls, err := pgx.CollectRows(rows, pgx.RowToStructByPos[portCall])
	if err != nil {
		answer(w, nil, err)
		return
	}
	ids, at := make([]int32, len(calls)), make(map[int32]int, len(calls))
	out := make([]portCallWithCargo, len(calls))
	for i, c := range calls {
		ids[i], at[c.ID] = c.ID, i
		out[i] = portCallWithCargo{c, []cargoItem{}}
	}
	rows, err = h.pool.Query(r.Context(),
		"select id, port_call_id, description, tonnes from harbour.cargo_item where port_call_id = any($1) order by id", ids)
	if err != nil {
		answer(w, nil, err)
		return
	}
	items, err := pgx.CollectRows(rows, pgx.RowToStructByPos[cargoItem])
	for _, item := range items {
		c := &out[at[item.PortCallID]]
		c.CargoItems = append(c.CargoItems, item)
	}
	answer(w, page[portCallWithCargo]{out}, err)
}

// floor reads the rows and encodes nothing: no handler can be faster.
func (h hand) floor(w http.ResponseWriter, r *http.Request) {
	rows, err := h.pool.Query(r.Context(), "select "+columns+" from harbour.port_call where status = $1 order by eta desc, id limit $2",
		pgx.QueryResultFormats{pgx.BinaryFormatCode}, r.URL.Query().Get("status"), limit(r))
	if err != nil {
		answer(w, nil, err)
		return
	}
	n := 0
	for rows.Next() {
		n += len(rows.RawValues())
	}
	if rows.Err() != nil {
		answer(w, nil, rows.Err())
		return
	}
	_, _ = w.Write([]byte(strconv.Itoa(n)))
}
