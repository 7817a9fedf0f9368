package encode

import (
	"testing"
	"time"
)

// Every day of the calendar that PostgreSQL's dates have in common with Go's, month by month, and the ends.
func TestCivil(t *testing.T) {
	t.Parallel()
	epoch := time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)
	for day := int64(-2_451_507); day < 4_000_000; day++ {
		want := epoch.AddDate(0, 0, int(day))
		year, month, dayOfMonth := civil(day)
		if int(year) != want.Year() || month != uint32(want.Month()) || dayOfMonth != uint32(want.Day()) {
			t.Fatalf("day %d is %d-%d-%d, want %s", day, year, month, dayOfMonth, want.Format(time.DateOnly))
		}
	}
	if year, month, day := civil(2_145_031_948); year != 5_874_897 || month != 12 || day != 31 {
		t.Errorf("the last day is %d-%d-%d", year, month, day)
	}
}
