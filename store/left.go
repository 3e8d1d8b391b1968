package store

import (
	"context"
	"fmt"
	"time"
)

// LeftFile is a file that was picked up and left where it is.
type LeftFile struct {
	Path     string    `db:"path"`
	Folder   string    `db:"folder"`
	Size     int64     `db:"size"`
	Modified time.Time `db:"modified"`
	Device   uint64    `db:"device"`
	Inode    uint64    `db:"inode"`
	SHA256   string    `db:"sha256"`
	RawPath  []byte    `db:"raw_path"`
}

// LeftFiles gives what a route knows of the files that it has left in place.
func (s *Store) LeftFiles(ctx context.Context, route string) ([]LeftFile, error) {
	var out []LeftFile
	err := s.db.SelectContext(ctx, &out, `select path, folder, size, modified, device, inode, sha256, raw_path from left_files where route = $1`, route)
	for i := range out {
		out[i].Path, _ = named(out[i].Path, out[i].RawPath)
	}
	return out, err
}

// LeftFile gives what a route knows of one file that it has left in place.
func (s *Store) LeftFile(ctx context.Context, route, path string) (LeftFile, error) {
	var f LeftFile
	err := s.db.GetContext(ctx, &f, `select path, folder, size, modified, device, inode, sha256, raw_path from left_files where route = $1 and path = $2`, route, Readable(path))
	f.Path = path
	return f, notFound(err)
}

// Leave records files that are known by their content from now on.
func (s *Store) Leave(ctx context.Context, route string, files []LeftFile) error {
	n := len(files)
	paths, folders, sizes, modified, devices, inodes, sums := make([]string, n), make([]string, n), make([]int64, n), make([]time.Time, n), make([]string, n), make([]string, n), make([]string, n)
	raws := make([][]byte, n)
	for i, f := range files {
		paths[i], folders[i], sizes[i], modified[i], devices[i], inodes[i], sums[i] = Readable(f.Path), Readable(f.Folder), f.Size, f.Modified, fmt.Sprint(f.Device), fmt.Sprint(f.Inode), f.SHA256
		raws[i] = rawPath(f.Path)
	}
	_, err := s.db.ExecContext(ctx, `insert into left_files (route, path, folder, size, modified, device, inode, sha256, raw_path)
		select $1, path, folder, size, modified, device::numeric, inode::numeric, sum, raw from unnest($2::text[], $3::text[], $4::bigint[], $5::timestamptz[], $6::text[], $7::text[], $8::text[], $9::bytea[]) as t (path, folder, size, modified, device, inode, sum, raw)
		on conflict (route, path) do update set size = excluded.size, modified = excluded.modified, device = excluded.device, inode = excluded.inode, sha256 = excluded.sha256`,
		route, paths, folders, sizes, modified, devices, inodes, sums, raws)
	return err
}

// Forget drops what a route knows of a file that is gone, unless it has come
// back with another content.
func (s *Store) Forget(ctx context.Context, route, path, sha256 string) error {
	_, err := s.db.ExecContext(ctx, `delete from left_files where route = $1 and path = $2 and sha256 = $3`, route, Readable(path), sha256)
	return err
}
