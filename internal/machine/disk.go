package machine

import "fmt"

// Disk gives where the disk of a folder is mounted, and how many bytes are free and there in all. A folder that
// does not answer is an error.
func Disk(path string) (point string, free, total int64, err error) {
	f := folder(path)
	switch {
	case f.Silent:
		return "", 0, 0, ErrSilent
	case f.Error != "":
		return "", 0, 0, fmt.Errorf("%s: %s", path, f.Error)
	}
	return f.Point, f.Free, f.Total, nil
}
