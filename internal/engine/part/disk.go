package part

import (
	"log/slog"

	"steadyferry/internal/core/form"

	"golang.org/x/sys/unix"
)

// CheckDisk closes and opens publishing by the room that the disk has left.
func (reg *Registry) CheckDisk() {
	d, err := reg.Disk()
	if err != nil {
		slog.Warn("could not ask the disk for its free bytes", "error", err)
		return
	}
	full := d.Free < d.Reserve
	if was := reg.diskFull.Swap(full); full && !was {
		slog.Error("the disk is nearly full: publishing is refused, reading goes on", "free", d.Free, "reserve", d.Reserve)
	} else if was && !full {
		slog.Info("the disk has room again: publishing goes on", "free", d.Free)
	}
}

// DiskIsFull reports whether publishing is refused for the want of room.
func (reg *Registry) DiskIsFull() bool { return reg.diskFull.Load() }

// Disk asks how much room there is.
func (reg *Registry) Disk() (form.Disk, error) {
	var fs unix.Statfs_t
	if err := unix.Statfs(reg.dir, &fs); err != nil {
		return form.Disk{}, err
	}
	total := int64(fs.Blocks) * fs.Bsize
	return form.Disk{Total: total, Free: int64(fs.Bavail) * fs.Bsize, Reserve: min(reg.reserve, total/20), Full: reg.diskFull.Load()}, nil
}
