package cli

import "syscall"

// closed keeps what is in the process from being written to disk when it breaks down, and from
// being read by other processes of the same user (core(5), prctl(2)).
func closed() error {
	if err := syscall.Setrlimit(syscall.RLIMIT_CORE, &syscall.Rlimit{}); err != nil {
		return err
	}
	const setDumpable = 4
	if _, _, errno := syscall.RawSyscall(syscall.SYS_PRCTL, setDumpable, 0, 0); errno != 0 {
		return errno
	}
	return nil
}
