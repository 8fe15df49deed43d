/*
 * Lets a user-mode Linux of an older release run on processors with a larger
 * extended state than it knows. It reads and writes that state of its threads
 * in a buffer that is too short, which the host's kernel refuses for writing.
 * Here the short buffer is laid over the whole state. Preloaded by the kernel
 * proof, and only where the processor needs it.
 */
#define _GNU_SOURCE
#include <elf.h>
#include <errno.h>
#include <stdarg.h>
#include <string.h>
#include <sys/ptrace.h>
#include <sys/syscall.h>
#include <sys/uio.h>
#include <unistd.h>

static char whole[65536];

static long extended(int request, pid_t pid, void *kind, struct iovec *given)
{
	struct iovec all = { whole, sizeof whole };
	size_t n;

	if (syscall(SYS_ptrace, PTRACE_GETREGSET, pid, kind, &all) < 0)
		return -1;
	n = given->iov_len < all.iov_len ? given->iov_len : all.iov_len;
	if (request == PTRACE_GETREGSET) {
		memcpy(given->iov_base, whole, n);
		given->iov_len = n;
		return 0;
	}
	memcpy(whole, given->iov_base, n);
	return syscall(SYS_ptrace, PTRACE_SETREGSET, pid, kind, &all);
}

long ptrace(enum __ptrace_request request, ...)
{
	va_list list;
	pid_t pid;
	void *addr, *data;
	long word, result;
	int peek = request == PTRACE_PEEKTEXT || request == PTRACE_PEEKDATA || request == PTRACE_PEEKUSER;

	va_start(list, request);
	pid = va_arg(list, pid_t);
	addr = va_arg(list, void *);
	data = va_arg(list, void *);
	va_end(list);
	if ((request == PTRACE_GETREGSET || request == PTRACE_SETREGSET) && (long)addr == NT_X86_XSTATE)
		return extended(request, pid, addr, data);
	result = syscall(SYS_ptrace, request, pid, addr, peek ? (void *)&word : data);
	if (peek && result >= 0) {
		errno = 0;
		return word;
	}
	return result;
}
