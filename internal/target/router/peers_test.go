package router

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"
)

// Against what else leads traffic: Debian's nginx and haproxy, one worker each, as the router has one processor. Callers and instance speak just
// as much HTTP as it takes, so that what is between them is what is measured.

const (
	peerConns  = 16
	answerSize = 1 << 10
)

// serveRaw is an instance that answers every request with the same kilobyte.
func serveRaw() string {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		panic(err)
	}
	answer := fmt.Appendf(nil, "HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\nContent-Length: %d\r\n\r\n%s", answerSize, bytes.Repeat([]byte("a"), answerSize))
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				in := bufio.NewReader(conn)
				for {
					for {
						line, err := in.ReadSlice('\n')
						if err != nil {
							return
						}
						if len(line) == 2 {
							break
						}
					}
					if _, err := conn.Write(answer); err != nil {
						return
					}
				}
			}()
		}
	}()
	return "http://" + listener.Addr().String()
}

// callRaw sends requests over kept connections, and gives how many were answered in a second, and the 99th percentile of what they took, in
// seconds.
func callRaw(b *testing.B, address string, requests int) (rate, late float64) {
	var mu sync.Mutex
	var all []float64
	var group sync.WaitGroup
	began := time.Now()
	for caller := range peerConns {
		group.Go(func() {
			conn, err := net.Dial("tcp", address)
			if err != nil {
				b.Error(err)
				return
			}
			defer conn.Close()
			in := bufio.NewReaderSize(conn, 8<<10)
			var own []float64
			for i := caller; i < requests; i += peerConns {
				began := time.Now()
				if err := askRaw(conn, in); err != nil {
					b.Error(err)
					return
				}
				own = append(own, time.Since(began).Seconds())
			}
			mu.Lock()
			defer mu.Unlock()
			all = append(all, own...)
		})
	}
	group.Wait()
	if b.Failed() {
		b.FailNow()
	}
	took := time.Since(began).Seconds()
	slices.Sort(all)
	return float64(requests) / took, all[len(all)*99/100]
}

// askRaw sends a request and reads its answer.
func askRaw(conn net.Conn, in *bufio.Reader) error {
	if _, err := io.WriteString(conn, "GET /berths HTTP/1.1\r\nHost: web.skerry.example\r\nUser-Agent: bench\r\nAccept: */*\r\n\r\n"); err != nil {
		return err
	}
	return readAnswer(in)
}

// readAnswer reads an answer with its length.
func readAnswer(in *bufio.Reader) error {
	length := -1
	for first := true; ; first = false {
		line, err := in.ReadSlice('\n')
		if err != nil {
			return err
		}
		if first && !bytes.Contains(line, []byte(" 200 ")) {
			return fmt.Errorf("it answers %q", line)
		}
		if len(line) == 2 {
			break
		}
		if name, value, _ := bytes.Cut(line, []byte(":")); bytes.EqualFold(name, []byte("Content-Length")) {
			if length, err = strconv.Atoi(string(bytes.TrimSpace(value))); err != nil {
				return err
			}
		}
	}
	if length != answerSize {
		return fmt.Errorf("an answer of %d bytes", length)
	}
	_, err := io.CopyN(io.Discard, in, answerSize)
	return err
}

// freeAddress is one that nobody listens at yet.
func freeAddress(b *testing.B) string {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	defer listener.Close()
	return listener.Addr().String()
}

// startPeer starts a program that leads traffic to an instance, and gives where it listens.
func startPeer(b *testing.B, program, instance string) (at string, pid int) {
	path, err := exec.LookPath(program)
	if err != nil {
		b.Skip("there is no " + program)
	}
	folder := b.TempDir()
	at = freeAddress(b)
	conf := filepath.Join(folder, "conf")
	text, args := "", []string{}
	switch program {
	case "nginx":
		text = fmt.Sprintf("daemon off; worker_processes 1; pid %[1]s/pid; error_log %[1]s/error; events { worker_connections 20000; } http { access_log off; keepalive_requests 1000000000; client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s; upstream i { server %[2]s; keepalive 64; keepalive_requests 1000000000; } server { listen %[3]s; location / { proxy_pass http://i; proxy_http_version 1.1; proxy_set_header Connection \"\"; proxy_set_header Host $host; proxy_set_header X-Forwarded-For $remote_addr; } } }", folder, instance, at)
		args = []string{"-c", conf, "-p", folder}
	case "haproxy":
		text = fmt.Sprintf("global\n  nbthread 1\n  maxconn 6000\ndefaults\n  mode http\n  timeout connect 5s\n  timeout client 1m\n  timeout server 1m\n  option forwardfor\nfrontend f\n  bind %s\n  default_backend b\nbackend b\n  server a %s\n", at, instance)
		args = []string{"-f", conf, "-db"}
	}
	if err := os.WriteFile(conf, []byte(text), 0o600); err != nil {
		b.Fatal(err)
	}
	cmd := exec.Command(path, args...)
	cmd.Stderr = os.Stderr
	if err := cmd.Start(); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		if conn, err := net.Dial("tcp", at); err == nil {
			conn.Close()
			return at, cmd.Process.Pid
		}
		if time.Now().After(end) {
			b.Fatal(program + " does not listen")
		}
	}
}

// sides are the router and its peers, with one worker each.
var sides = []string{"router", "nginx", "haproxy"}

// startSides starts all of them before an instance, and gives where they are and their processes.
func startSides(b *testing.B) (at map[string]string, pid map[string]int) {
	instance, _ := startSide(b, "raw", "")
	at, pid = map[string]string{}, map[string]int{}
	for _, side := range sides {
		if side == "router" {
			at[side], pid[side] = startSide(b, side, instance, "GOMAXPROCS=1", "GOGC=50") // as aditus route has it
			at[side] = strings.TrimPrefix(at[side], "http://")
		} else {
			at[side], pid[side] = startPeer(b, side, strings.TrimPrefix(instance, "http://"))
		}
	}
	return at, pid
}

// BenchmarkPeers leads the same requests through the router, nginx and haproxy in turns, as machines have moods, and tells the middle one of what
// the turns came to.
func BenchmarkPeers(b *testing.B) {
	at, _ := startSides(b)
	const turn = 10_000
	rates, lates := map[string][]float64{}, map[string][]float64{}
	b.ResetTimer()
	for left := b.N; left > 0; left -= turn {
		for _, side := range sides {
			rate, late := callRaw(b, at[side], min(turn, max(left, 100)))
			rates[side], lates[side] = append(rates[side], rate), append(lates[side], late)
		}
	}
	b.StopTimer()
	middle := func(all []float64) float64 {
		slices.Sort(all)
		return all[len(all)/2]
	}
	for _, side := range sides {
		b.ReportMetric(middle(rates[side]), side+"/s")
		b.ReportMetric(middle(lates[side])*1000, side+"-p99-ms")
	}
}

// BenchmarkOpen has many connections open, on which one request was answered, and tells how much more memory each took.
func BenchmarkOpen(b *testing.B) {
	const open = 5000
	at, pid := startSides(b)
	for range b.N {
		for _, side := range sides {
			for range 100 { // so that what it has anyway is there
				conn, err := net.Dial("tcp", at[side])
				if err != nil {
					b.Fatal(err)
				}
				if err := askRaw(conn, bufio.NewReader(conn)); err != nil {
					b.Fatal(err)
				}
				conn.Close()
			}
			before := resident(b, pid[side])
			var conns []net.Conn
			for range open {
				conn, err := net.Dial("tcp", at[side])
				if err != nil {
					b.Fatal(err)
				}
				conns = append(conns, conn)
				if err := askRaw(conn, bufio.NewReaderSize(conn, 2<<10)); err != nil {
					b.Fatal(err)
				}
			}
			b.ReportMetric(float64(resident(b, pid[side])-before)/open, side+"-B/connection")
			for _, conn := range conns {
				conn.Close()
			}
		}
	}
}

// resident is how much memory a process and those that it started take.
func resident(b *testing.B, pid int) (bytes int) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
	if err != nil {
		b.Skip(err)
	}
	var pages int
	fmt.Sscan(strings.Fields(string(text))[1], &pages)
	bytes = pages * os.Getpagesize()
	children, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid))
	for _, name := range children {
		text, _ := os.ReadFile(name)
		for child := range strings.FieldsSeq(string(text)) {
			number, _ := strconv.Atoi(child)
			bytes += resident(b, number)
		}
	}
	return bytes
}
