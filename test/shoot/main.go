// Command shoot takes the pictures of the pages for docs/screenshots, from a
// demo that was left running, or lets a member watch for a while:
//
//	shoot pages ADDRESS NAME PASSWORD FOLDER
//	shoot watch ADDRESS NAME PASSWORD SHELF TITLE PART SECONDS
//
// or plays the part of the catalogues:
//
//	shoot standin ADDRESS
package main

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"time"

	"cozyshelf/internal/demo"
	"cozyshelf/internal/standin"
	"cozyshelf/test/browser"
)

func main() {
	err := errors.New("shoot pages ADDRESS NAME PASSWORD FOLDER | shoot watch ADDRESS NAME PASSWORD SHELF TITLE " +
		"PART SECONDS | shoot file PAGE PICTURE")
	switch a := os.Args; {
	case len(a) == 6 && a[1] == "pages":
		err = shoot(a[2], a[3], a[4], a[5])
	case len(a) == 3 && a[1] == "standin":
		srv := http.Server{Addr: a[2], Handler: standin.Household(), ReadHeaderTimeout: 5 * time.Second}
		err = srv.ListenAndServe()
	case len(a) == 4 && a[1] == "file":
		err = file(a[2], a[3])
	case len(a) == 9 && a[1] == "watch":
		err = watch(a[2], a[3], a[4], a[5], a[6], a[7], a[8])
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// file takes a picture of a page that is a file.
func file(page, to string) error {
	b, err := browser.Open()
	if err != nil {
		return err
	}
	defer b.Close()
	if err := b.Go("file://" + page); err != nil {
		return err
	}
	return b.Picture(to)
}

func watch(address, name, password, shelf, title, part, seconds string) error {
	n, err := strconv.ParseFloat(seconds, 64)
	if err != nil {
		return err
	}
	ctx, v := context.Background(), &demo.Viewer{Address: address}
	if err := v.SignIn(ctx, name, password, name+"'s tablet"); err != nil {
		return err
	}
	f, err := v.Find(ctx, shelf, title, part)
	if err != nil {
		return err
	}
	return v.Watch(ctx, f, n)
}

func shoot(address, name, password, dir string) error {
	b, err := browser.Open()
	if err != nil {
		return err
	}
	defer b.Close()
	if err := b.Prefer("light"); err != nil {
		return err
	}
	u, err := url.Parse(address)
	if err != nil {
		return err
	}
	byName := "http://localhost:" + u.Port()
	picture := func(name string) error {
		time.Sleep(400 * time.Millisecond) // pictures on the page are drawn
		return b.Picture(filepath.Join(dir, name+".png"))
	}
	link := func(text string) error {
		// By its words, so that the pictures do not depend on ids.
		err := b.Eval(fmt.Sprintf(`[...document.querySelectorAll("main a")].find(a => a.textContent.includes(%q)).click()`,
			text), nil)
		if err != nil {
			return fmt.Errorf("no link %q: %w", text, err)
		}
		time.Sleep(300 * time.Millisecond)
		return b.Until(`document.readyState === "complete"`)
	}
	steps := []func() error{
		func() error { return b.Go(address + "/") },
		func() error { return b.SignIn(name, password) },
		func() error { // devices of the demo that it has not been told of
			return b.Eval(`document.querySelector("form[action='/own/devices/known']")?.submit()`, nil)
		},
		func() error {
			return b.Until(`document.readyState === "complete" && !document.querySelector("form[action='/own/devices/known']")`)
		},
		func() error { return picture("shelves") },
		func() error { return b.Go(address + "/shelf/films") },
		// A film that no browser here plays as it is.
		func() error { return link("Copper Kite") },
		func() error { return link("Watch") },
		func() error { return b.Until(`document.querySelector("video").readyState >= 3`) },
		func() error { return b.Eval(`document.querySelector("video").play()`, nil) },
		func() error { return b.Until(`document.querySelector("video").currentTime > 4`) },
		func() error { return picture("player") },
		// With a passkey, which needs a name, one's own page and the house.
		b.Authenticate,
		func() error { return b.Go(byName + "/own") },
		func() error { return b.SignIn(name, password) },
		func() error { return b.Go(byName + "/own") },
		func() error {
			return b.Eval(fmt.Sprintf(`(() => {
				const f = document.querySelector("button[data-passkey='/own/passkeys']").form;
				f.elements.called.value = "telephone";
				f.elements.now.value = %q;
				f.requestSubmit();
			})()`, password), nil)
		},
		func() error { return b.Until(`document.querySelector("button[data-passkey='/own/confirm']")`) },
		func() error { return b.Eval(`document.querySelector("form[action='/sign-out'] button").click()`, nil) },
		func() error { return b.Until(`document.querySelector("button[data-passkey='/sign-in/passkey']")`) },
		func() error {
			return b.Eval(`document.querySelector("button[data-passkey='/sign-in/passkey']").click()`, nil)
		},
		func() error { return b.Until(`document.querySelector("a[href='/own']")`) },
		func() error { return b.Go(byName + "/own") },
		func() error { return picture("own") },
		func() error { return b.Go(byName + "/house") },
		func() error { return picture("house") },
	}
	for i, step := range steps {
		if err := step(); err != nil {
			return fmt.Errorf("step %d: %w", i, err)
		}
	}
	for _, s := range b.Said {
		fmt.Fprintln(os.Stderr, "the page complained:", s)
	}
	return nil
}
