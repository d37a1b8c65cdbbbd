package traffic

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"os"
	"slices"
	"strings"
	"syscall"

	"aditus/internal/system"
)

// What a process listens to is handed to the keeper over its socket, as SCM_RIGHTS (unix(7)): a message for each, the
// address in it and the file beside it. The keeper gives them to the next process as it starts it, from firstFile on, with
// the addresses in a variable.
const (
	listenersName = "ADITUS_LISTENERS"
	firstFile     = 3
	maxAddress    = 512
)

var errListener = errors.New("it is nothing to accept connections from")

// hand sends listeners to whoever asks on a connection.
func hand(conn *net.UnixConn, all map[string]net.Listener) error {
	for _, address := range slices.Sorted(maps.Keys(all)) {
		own, ok := all[address].(syscall.Conn)
		if !ok {
			return fmt.Errorf("%s: %w", address, errListener)
		}
		raw, err := own.SyscallConn()
		if err != nil {
			return err
		}
		var sent error
		raw.Control(func(fd uintptr) { // does nothing where it was closed just now
			sent = system.SendFile(conn, []byte(address+"\n"), fd)
		})
		if sent != nil {
			return sent
		}
	}
	return nil
}

// received asks for all that a process listens to.
func received(conn *net.UnixConn) (files map[string]*os.File, err error) {
	if _, err := io.WriteString(conn, "POST /listeners HTTP/1.1\r\nHost: router\r\n\r\n"); err != nil {
		return nil, err
	}
	files = map[string]*os.File{}
	defer func() {
		if err != nil {
			closeAll(files)
		}
	}()
	text := make([]byte, maxAddress)
	for {
		n, file, err := system.ReceiveFile(conn, text)
		switch {
		case errors.Is(err, system.ErrRights):
			return nil, fmt.Errorf("%w: %q", errListener, text[:n])
		case n == 0 || errors.Is(err, io.EOF):
			return files, nil
		case err != nil:
			return nil, err
		}
		files[strings.TrimSpace(string(text[:n]))] = file
	}
}

func closeAll(files map[string]*os.File) {
	for _, file := range files {
		file.Close()
	}
}

// inherited are the listeners that the process was started with.
func inherited() map[string]net.Listener {
	all := map[string]net.Listener{}
	var addresses []string
	json.Unmarshal([]byte(os.Getenv(listenersName)), &addresses) // without any there is nothing
	os.Unsetenv(listenersName)
	for i, address := range addresses {
		file := os.NewFile(uintptr(firstFile+i), address)
		if listener, err := net.FileListener(file); err == nil {
			all[address] = listener
		}
		file.Close()
	}
	return all
}
