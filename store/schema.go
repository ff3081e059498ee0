package store

import (
	"io/fs"
	"strconv"
	"strings"
)

// Schema returns the number of the newest migration that this program knows.
func Schema() (newest int64) {
	entries, _ := fs.ReadDir(migrations, "migrations")
	for _, e := range entries {
		number, _, _ := strings.Cut(e.Name(), "_")
		if n, err := strconv.ParseInt(number, 10, 64); err == nil {
			newest = max(newest, n)
		}
	}
	return newest
}
