// Package eventloop lets code that is written as if it had a thread for itself serve many
// connections from few threads. Each connection's code is a Task: a coroutine that gives
// way to its loop when it would wait for the network, and that the loop resumes when the
// kernel says that there is something to read, or room to write.
//
// Against goroutines that wait by themselves this saves, for every request, the reads that
// find nothing yet, the runtime's timers, and waking a thread for each step. Code on a task
// may lock, but it must not wait for anything else than its connections: what does belongs
// into Task.Block.
//
// Where there is no epoll, a task is a goroutine and its connections are the standard
// library's.
package eventloop
