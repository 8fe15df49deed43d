// Package gather works out which files of a mounted file system are worth being put together
// again: in how many pieces each lies, in how few it could, and in which order they are best
// taken. It moves nothing; the kernel does, while the files are in use.
//
// A piece is a run of a file's bytes that lie one behind the other on the device. A file with
// holes has at least one for each run of bytes between them.
package gather
