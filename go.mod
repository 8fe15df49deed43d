module fundus

go 1.26.8

require (
	github.com/coreos/go-systemd/v22 v22.6.0
	github.com/godbus/dbus/v5 v5.2.2
	github.com/google/btree v1.1.3
	github.com/google/uuid v1.6.0
	github.com/jedib0t/go-pretty/v6 v6.8.3
	github.com/klauspost/compress v1.20.3
	github.com/spf13/cobra v1.10.2
	github.com/spf13/pflag v1.0.9
	github.com/zeebo/blake3 v0.2.4
	go.yaml.in/yaml/v3 v3.0.6
	golang.org/x/sys v0.49.0
	golang.org/x/term v0.47.0
)

require (
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/klauspost/cpuid/v2 v2.0.12 // indirect
	github.com/mattn/go-runewidth v0.0.16 // indirect
	github.com/rivo/uniseg v0.4.7 // indirect
	golang.org/x/text v0.22.0 // indirect
)
