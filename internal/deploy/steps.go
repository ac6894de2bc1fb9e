package deploy

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"cozyshelf/internal/atomicfile"
	"cozyshelf/internal/boundary"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/engine"
	"cozyshelf/internal/machine"
	"cozyshelf/internal/pack"
	"cozyshelf/internal/problem"
)

func (d *Carrier) one(ctx context.Context, c blueprint.Change) error {
	household := d.Blueprint.Household
	w, _ := d.Blueprint.Service(c.Service)
	switch c.Action {
	case blueprint.MakeState, blueprint.MakeScratch, blueprint.MakeBackups:
		return d.folder(c.Target)
	case blueprint.LoadImage:
		return d.image(ctx, w.Image)
	case blueprint.MakeNetwork:
		return with(d.Engine, func(e engine.Networks) error { return e.MakeNetwork(ctx, c.Target, household) })
	case blueprint.RemoveNetwork:
		return with(d.Engine, func(e engine.Networks) error { return e.RemoveNetwork(ctx, c.Target) })
	case blueprint.MakeVolume:
		return d.volume(ctx, c.Target)
	case blueprint.RemoveVolume:
		return with(d.Engine, func(e engine.Volumes) error { return e.RemoveVolume(ctx, c.Target) })
	case blueprint.WriteSettings:
		return d.settings()
	case blueprint.Prove:
		if d.Prove == nil {
			return nil
		}
		return d.Prove(ctx)
	case blueprint.Create:
		_, err := d.Engine.Create(ctx, w)
		return err
	case blueprint.PutBack:
		return with(d.Engine, func(e engine.PutsBack) error { return e.PutBack(ctx, c.Target, w) })
	case blueprint.StopOld:
		return ignore(d.Engine.Stop(ctx, c.Target, 10*time.Second), engine.ErrNotFound)
	case blueprint.TakeBackup:
		return d.Backup(ctx, c.Target)
	case blueprint.PutStore:
		_, err := PutStore(ctx, d.Blueprint.State, c.Target, d.Secret, d.owner())
		return err
	case blueprint.WriteUnit:
		return d.unit()
	case blueprint.RemoveUnit:
		return RemoveUnit(c.Target)
	case blueprint.Start:
		s, err := d.made(ctx, w)
		if err != nil {
			return err
		}
		return d.Engine.Start(ctx, s.ID)
	case blueprint.AwaitHealthy:
		return d.await(ctx, w)
	case blueprint.RemoveOld:
		return d.Engine.Remove(ctx, c.Target)
	case blueprint.RemoveImage:
		return ignore(d.Engine.RemoveImage(ctx, c.Target, household), engine.ErrInUse)
	case blueprint.EraseScratch:
		// What others put there stays, and the folder with it.
		return ignore(ignore(removeFolder(c.Target), os.ErrNotExist), syscall.ENOTEMPTY)
	case blueprint.EraseState:
		return EraseState(ctx, c.Target)
	}
	return fmt.Errorf("there is no way to carry out %q", c.Action)
}

// with does a step that only some engines have.
func with[E any](e engine.Engine, do func(E) error) error {
	can, ok := e.(E)
	if !ok {
		return engine.ErrNone
	}
	return do(can)
}

// image gives the engine the image of a service.
func (d *Carrier) image(ctx context.Context, i blueprint.Image) error {
	switch {
	case i.Reference != "":
		return with(d.Engine, func(e engine.References) error { return e.Fetch(ctx, i.Reference) })
	case i.Archive != "":
		return with(d.Engine, func(e engine.Archives) error { return e.LoadArchive(ctx, i.Archive, i.Digest, i.Key()) })
	}
	img := d.Image
	if img.Digest != i.Program {
		img = pack.Image{Digest: i.Program} // a former program, which is there
	}
	return d.Engine.LoadImage(ctx, img, d.Blueprint.Household)
}

// removeFolder removes an empty folder.
func removeFolder(path string) error {
	above, err := boundary.Open(filepath.Dir(path))
	if err != nil {
		return err
	}
	defer above.Close()
	return above.RemoveDir(filepath.Base(path))
}

// volume makes the volume of a share, with what its credentials file holds.
func (d *Carrier) volume(ctx context.Context, name string) error {
	for _, v := range d.Blueprint.Volumes {
		if v.Name == name {
			return MakeVolume(ctx, d.Engine, v, d.Blueprint.Household)
		}
	}
	return fmt.Errorf("%w: volume %s", engine.ErrNotFound, name)
}

// MakeVolume makes the volume of a share on an engine. What the credentials file
// holds goes to the engine and nowhere else.
func MakeVolume(ctx context.Context, e engine.Engine, v blueprint.Volume, household string) error {
	var c blueprint.Credentials
	if v.Credentials != "" {
		var err error
		if c, err = machine.ReadCredentials(v.Credentials); err != nil {
			return &problem.Problem{What: "the credentials for " + v.Shown + " cannot be used", Where: v.Credentials,
				Why: err.Error(), Fix: "write username= and password= into it, a line each, and chmod 600 it", Err: err}
		}
	}
	return with(e, func(e engine.Volumes) error { return e.MakeVolume(ctx, v.Name, household, v.Options(c)) })
}

func ignore(err, kind error) error {
	if errors.Is(err, kind) {
		return nil
	}
	return err
}

// ours reports whether the run-as account is who runs this: then what we make is
// its own, and the group is as it is.
func (d *Carrier) ours() bool {
	return os.Getuid() != 0 && os.Getuid() == int(d.Blueprint.OwnerUID)
}

// settings writes the settings file.
func (d *Carrier) settings() error {
	return atomicfile.Replace(filepath.Join(d.Blueprint.State, d.Blueprint.SettingsFile()), d.Blueprint.SettingsJSON(),
		0o600, d.owner())
}

// owner is who what we make is given to: nil where it is ours already.
func (d *Carrier) owner() *atomicfile.Owner {
	if d.ours() {
		return nil
	}
	return &atomicfile.Owner{UID: int(d.Blueprint.OwnerUID), GID: int(d.Blueprint.OwnerGID)}
}
