// Package watch judges whether a program that says nothing stands still. It goes by what
// the program does, and never by a clock alone: a line or a request to a disk is a sign of
// life; between two of them patience runs out in one of two coins. Idle time is time in
// which none of its processes computed, waited for a processor, or was stopped: whoever
// waits for a lock for ever spends it. Processor time is spent by whoever loops without a
// word. A machine that is slow, busy or halted takes from neither.
//
// Requests alone do not keep up patience for ever: something in a guest may write now and
// then while what is awaited never comes. So what was spent since the last line counts as
// well, with coins that are Stretch times as large.
//
// Source of the figures: proc(5), and Documentation/scheduler/sched-stats.rst of the Linux
// kernel for /proc/PID/schedstat (time on a processor and time waiting for one, ns).
package watch
