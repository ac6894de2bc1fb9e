package docker

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"strings"

	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/pack"

	"github.com/containerd/errdefs"
	"github.com/google/go-containerregistry/pkg/name"
	"github.com/google/go-containerregistry/pkg/v1/tarball"
	"github.com/moby/moby/client"
)

// kept is the name under which a household keeps an image.
func kept(household, digest string) string {
	_, hash, _ := strings.Cut(digest, ":")
	return keptName + household + "-" + hash[:min(12, len(hash))]
}

const keptName = "cozyshelf-kept:"

// images maps the digests of programs to the ids of the images that hold them.
func (e *Engine) images(ctx context.Context) (map[string]string, error) {
	ids, _, _, err := e.imagesAndNames(ctx)
	return ids, err
}

// imagesAndNames also gives the names of each, and those of all other images.
func (e *Engine) imagesAndNames(ctx context.Context) (ids map[string]string, names map[string][]string,
	others []string, err error) {
	list, err := e.api.ImageList(ctx, client.ImageListOptions{})
	if err != nil {
		return nil, nil, nil, wrap(err)
	}
	ids, names = map[string]string{}, map[string][]string{}
	for _, i := range list.Items {
		if d := i.Labels[pack.LabelDigest]; d != "" {
			ids[d], names[d] = i.ID, i.RepoTags
			continue
		}
		for _, n := range i.RepoTags {
			others = append(others, strings.TrimPrefix(n, "localhost/")) // as Podman names what has no registry
		}
	}
	return ids, names, others, nil
}

// find gives the engine's name or id of a service's image.
func (e *Engine) find(ctx context.Context, i blueprint.Image) (string, error) {
	missing := fmt.Errorf("%w: image %s", engine.ErrNotFound, i)
	if i.Program != "" {
		images, err := e.images(ctx)
		if err != nil {
			return "", err
		}
		if images[i.Program] == "" {
			return "", missing
		}
		return images[i.Program], nil
	}
	in, err := e.api.ImageInspect(ctx, i.Key())
	if errdefs.IsNotFound(err) {
		return "", missing
	}
	return in.ID, wrap(err)
}

// Fetch has the engine fetch an image by its name.
func (e *Engine) Fetch(ctx context.Context, reference string) error {
	r, err := e.api.ImagePull(ctx, reference, client.ImagePullOptions{})
	if err != nil {
		return wrap(err)
	}
	defer r.Close()
	return wrap(r.Wait(ctx))
}

// LoadArchive loads the image of an archive. Its bytes are read once: what is loaded is what
// has the digest.
func (e *Engine) LoadArchive(ctx context.Context, path, digest, as string) error {
	f, err := boundary.PlainFile(path)
	if err != nil {
		return err
	}
	defer f.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, f); err != nil {
		return err
	}
	if got := fmt.Sprintf("sha256:%x", sum.Sum(nil)); got != digest {
		return fmt.Errorf("%s has the digest %s, not %s", path, got, digest)
	}
	img, err := tarball.Image(func() (io.ReadCloser, error) {
		return io.NopCloser(io.NewSectionReader(f, 0, 1<<62)), nil
	}, nil)
	if err != nil {
		return fmt.Errorf("%s is no archive with one image: %w", path, err)
	}
	ref, err := name.NewTag(as)
	if err != nil {
		return err
	}
	// It is packed anew under the one name that it is to have: the names in it are whatever
	// somebody wrote.
	said, err := e.take(ctx, func(w io.Writer) error { return tarball.Write(ref, img, w) })
	if err != nil {
		return err
	}
	if _, err := e.api.ImageInspect(ctx, as); err != nil {
		return fmt.Errorf("the engine took the archive but does not list its image: %w; it said: %s", wrap(err),
			said)
	}
	return nil
}

// take has the engine load what is written, and gives what it said.
func (e *Engine) take(ctx context.Context, write func(io.Writer) error) (said string, err error) {
	r, w := io.Pipe()
	defer r.Close() // lets the writing end where loading fails
	go func() { w.CloseWithError(write(w)) }()
	res, err := e.api.ImageLoad(ctx, r, client.ImageLoadWithQuiet(true))
	if err != nil {
		return "", wrap(err)
	}
	defer res.Close()
	b, err := io.ReadAll(io.LimitReader(res, 1<<16))
	return strings.TrimSpace(string(b)), err
}

// LoadImage packs the program and loads it. Another household may remove the last of its images
// just then, so what is there now is looked at anew where that happens.
func (e *Engine) LoadImage(ctx context.Context, img pack.Image, household string) error {
	for try := 0; ; try++ {
		have, err := e.images(ctx)
		if err != nil {
			return err
		}
		if have[img.Digest] == "" {
			if err := e.load(ctx, img, household); err != nil {
				return err
			}
			if have, err = e.images(ctx); err != nil {
				return err
			}
		}
		err = e.keep(ctx, have[img.Digest], img.Digest, household)
		if err == nil {
			return nil
		}
		if now, lerr := e.images(ctx); try == 3 || lerr != nil || now[img.Digest] == have[img.Digest] && try > 0 {
			return err
		}
	}
}

// load packs a program and has the engine load it, under the name by which a household keeps
// it.
func (e *Engine) load(ctx context.Context, img pack.Image, household string) error {
	said, err := e.take(ctx, func(w io.Writer) error { return img.Write(w, kept(household, img.Digest)) })
	if err != nil {
		return err
	}
	have, err := e.images(ctx)
	if err == nil && have[img.Digest] == "" {
		err = fmt.Errorf("the engine took the image but does not list it; it said: %s", said)
	}
	return err
}

// keep gives an image the name under which a household keeps it.
func (e *Engine) keep(ctx context.Context, id, digest, household string) error {
	_, err := e.api.ImageTag(ctx, client.ImageTagOptions{Source: id, Target: kept(household, digest)})
	return wrap(err)
}

// RemoveImage removes the image of a program, unless others keep it.
func (e *Engine) RemoveImage(ctx context.Context, digest, household string) error {
	have, names, _, err := e.imagesAndNames(ctx)
	if err != nil || have[digest] == "" {
		return err
	}
	users, err := e.api.ContainerList(ctx,
		client.ContainerListOptions{All: true, Filters: label(blueprint.LabelHousehold, "")})
	if err != nil {
		return wrap(err)
	}
	others := 0
	for _, u := range users.Items {
		if c, ok := blueprint.FromLabels(u.Labels); !ok || c.Image.Program != digest {
			continue
		}
		if others++; u.Labels[blueprint.LabelHousehold] == household {
			return fmt.Errorf("%w: container %s is made from the image", engine.ErrInUse, u.ID)
		}
	}
	ours := ""
	for _, name := range names[digest] {
		switch {
		case strings.HasSuffix(name, kept(household, digest)):
			ours = name
		case strings.Contains(name, keptName):
			others++
		}
	}
	if others > 0 {
		if ours != "" {
			if _, err := e.api.ImageRemove(ctx, ours, client.ImageRemoveOptions{}); err != nil &&
				!errdefs.IsNotFound(err) {
				return wrap(err)
			}
		}
		return fmt.Errorf("%w: another household uses or keeps the image", engine.ErrInUse)
	}
	// All its names go at once, so that nobody meets one that is kept by none.
	_, err = e.api.ImageRemove(ctx, have[digest], client.ImageRemoveOptions{Force: true, PruneChildren: true})
	if errdefs.IsNotFound(err) {
		return nil
	}
	return wrap(err)
}
