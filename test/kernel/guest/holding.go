package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
)

// rememberedIn is where the sectors of before are kept, over boots.
const rememberedIn = "/var/written"

// holding remembers, when it is asked for the first time, which sectors of the device hold anything but
// zeros; asked again, it says how many of those do.
func holding(words []string) string {
	now, err := sectors(words[0])
	if err != nil {
		return err.Error()
	}
	before := map[int64]bool{}
	data, err := os.ReadFile(rememberedIn)
	if errors.Is(err, fs.ErrNotExist) {
		data, err = json.Marshal(now)
		return fmt.Sprintf("%d sectors are remembered%s", len(now), fine(errors.Join(err, os.WriteFile(rememberedIn, data, 0o644))))
	}
	if err = errors.Join(err, json.Unmarshal(data, &before)); err != nil {
		return err.Error()
	}
	still := 0
	for at := range before {
		if now[at] {
			still++
		}
	}
	return fmt.Sprintf("%d of %d sectors still hold something%s", still, len(before), fine(nil))
}

// sectors are those of a device that are not zero.
func sectors(device string) (map[int64]bool, error) {
	f, err := os.Open("/dev/" + device)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	out, buf, zeros := map[int64]bool{}, make([]byte, 1<<20), make([]byte, 512)
	for at := int64(0); ; {
		n, err := io.ReadFull(f, buf)
		for i := 0; i+512 <= n; i += 512 {
			if !bytes.Equal(buf[i:i+512], zeros) {
				out[at+int64(i)/512] = true
			}
		}
		at += int64(n) / 512
		if err != nil {
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				err = nil
			}
			return out, err
		}
	}
}
