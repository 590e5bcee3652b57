// Package runner runs versions on this machine and looks after them: each replica is a process of its own with a folder
// of its own, which the service finds again after a restart.
//
// Who runs what is told by locks, not by process ids: a replica holds the lock of its folder for as long as it lives,
// so there is never a second one, and nobody takes the id of a process that ended for one of ours. A replica ends by
// itself when no service has been there for some time, so none is left behind.
//
//	runners/RUN/signature.json   what the version's signature is
//	runners/RUN/2/lock           held by replica 2
//	runners/RUN/2/state.json     its process, its address, or why it could not begin
//	runners/RUN/2/log            what it wrote; log.1 is what it wrote before
//	runners/alive                touched by the service every second
package runner
