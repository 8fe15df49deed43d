package main

import (
	"archive/tar"
	"compress/gzip"
	"os"
	"path/filepath"
	"strings"
)

// archive makes the archive: the same files below one directory.
func (r release) archive(name string, list []item) error {
	f, err := os.Create(filepath.Join(r.out, name))
	if err != nil {
		return err
	}
	defer f.Close()
	z, err := gzip.NewWriterLevel(f, gzip.BestCompression)
	if err != nil {
		return err
	}
	w := tar.NewWriter(z)
	for _, it := range list {
		err := w.WriteHeader(&tar.Header{
			Name: "fundus-" + r.version + "/" + strings.TrimPrefix(it.path, "/usr/"), Mode: int64(it.mode), Size: int64(len(it.data)),
			ModTime: r.at, Uname: "root", Gname: "root", Format: tar.FormatPAX,
		})
		if err == nil {
			_, err = w.Write(it.data)
		}
		if err != nil {
			return err
		}
	}
	if err := w.Close(); err != nil {
		return err
	}
	return z.Close()
}
