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

// callRaw sends b.N requests over kept connections, and gives the 99th percentile of what they took, in seconds.
func callRaw(b *testing.B, address string) float64 {
	var mu sync.Mutex
	var all []float64
	var group sync.WaitGroup
	b.ResetTimer()
	for caller := range peerConns {
		group.Go(func() {
			conn, err := net.Dial("tcp", address)
			if err != nil {
				b.Error(err)
				return
			}
			defer conn.Close()
			in := bufio.NewReaderSize(conn, 8<<10)
			request := []byte("GET /berths HTTP/1.1\r\nHost: web.skerry.example\r\nUser-Agent: bench\r\nAccept: */*\r\n\r\n")
			var own []float64
			for i := caller; i < b.N; i += peerConns {
				began := time.Now()
				if _, err := conn.Write(request); err != nil {
					b.Error(err)
					return
				}
				if err := readAnswer(in); err != nil {
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
	b.StopTimer()
	slices.Sort(all)
	return all[len(all)*99/100]
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
func startPeer(b *testing.B, program, instance string) string {
	path, err := exec.LookPath(program)
	if err != nil {
		b.Skip("there is no " + program)
	}
	folder, at := b.TempDir(), freeAddress(b)
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
			return at
		}
		if time.Now().After(end) {
			b.Fatal(program + " does not listen")
		}
	}
}

// BenchmarkPeers leads the same requests through the router, nginx and haproxy, one worker each, in the same run.
func BenchmarkPeers(b *testing.B) {
	instance := startSide(b, "raw", "")
	for _, side := range []string{"router", "nginx", "haproxy"} {
		b.Run(side, func(b *testing.B) {
			at := ""
			if side == "router" {
				at = strings.TrimPrefix(startSide(b, "router", instance, "GOMAXPROCS=1"), "http://")
			} else {
				at = startPeer(b, side, strings.TrimPrefix(instance, "http://"))
			}
			took := callRaw(b, at)
			b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "requests/s")
			b.ReportMetric(took*1000, "p99-ms")
		})
	}
}
