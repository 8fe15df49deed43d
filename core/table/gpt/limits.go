package gpt

const (
	// DefaultEntries is what the specification asks for at least (16 KiB).
	DefaultEntries = 128
	// maxArray bounds the memory that a header can ask for: 256 times the
	// array that everybody writes.
	maxArray = 4 << 20
	// maxHeader is the largest header that is believed; it must also fit into
	// a sector.
	maxHeader = 4096
)
