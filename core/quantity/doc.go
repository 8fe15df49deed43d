// Package quantity holds the typed numbers that every other package speaks,
// and the one notation in which people write sizes.
//
// Bytes, LBA and Count are distinct types so that sectors are never added to
// bytes; they are converted into each other here and nowhere else. All
// arithmetic on numbers that may come from a disk reports overflow instead of
// wrapping.
//
// Notation (decimal fractions are allowed where the result is whole):
//
//	512MiB 8GiB 1.5TiB   binary units, powers of 1024
//	500MB 1TB            decimal units, powers of 1000
//	8G                   a bare letter is binary; Bare reports it, so that a
//	                     draft can show both values
//	4096sectors          logical sectors of the device meant
//	512B                 bytes
//	50%                  a share of something that the caller names
//	max                  all that there is
//
// A number without a unit is refused: it would mean bytes to one reader and
// sectors to another.
package quantity
