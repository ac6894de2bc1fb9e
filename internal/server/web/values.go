package web

import (
	"fmt"

	"cozyshelf/internal/core/media"
	"cozyshelf/internal/store"
)

// What the pages show, made from rows of the store.

// title is a title as pages show it.
type title struct {
	ID              int64
	Shelf, Name, By string
	Year            int
	Parts, Problems int     // problems are files that cannot be read
	For             string  // from which age on it is; empty where that is not known
	Duration        float64 // in seconds
	Size            int64
}

// file is a file as pages show it.
type file struct {
	ID                  int64
	Label, Path, Day    string
	Content, Problem    string
	Duration, ResumeAt  float64 // in seconds
	Size                int64
	Seen                bool
	Codecs, PictureSize string
}

// begun is what a member has begun and not finished.
type begun struct {
	Title title
	File  file
}

// hit is a title, or a part of one, that was searched for.
type hit struct {
	Title title
	Part  string
}

// forWhom says from which age on something is.
func forWhom(age *int) string {
	switch {
	case age == nil:
		return ""
	case *age == 0:
		return "for everybody"
	}
	return fmt.Sprintf("from %d years on", *age)
}

func titleOf(t store.Title) title {
	return title{ID: t.ID, Shelf: t.Shelf, Name: t.Name, By: t.By, Year: t.Year, Parts: t.Parts,
		Problems: t.Problems, Duration: t.Duration, Size: t.Size, For: forWhom(t.Age)}
}

func fileOf(f store.File) file {
	out := file{ID: f.ID, Label: f.Label(), Path: f.Path, Day: f.Day(), Content: f.Content, Problem: f.Problem,
		Duration: f.Duration, ResumeAt: f.ResumeAt, Size: f.Size, Seen: f.Seen, Codecs: f.Media.Codecs()}
	if t := f.Media.First(media.Video); t.Width > 0 {
		out.PictureSize = fmt.Sprintf("%d×%d", t.Width, t.Height)
	}
	return out
}

func titlesOf(list []store.Title) []title {
	out := make([]title, len(list))
	for i, t := range list {
		out[i] = titleOf(t)
	}
	return out
}
