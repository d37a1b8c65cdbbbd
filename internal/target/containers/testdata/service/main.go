// The service that images of the tests hold: it answers, and does what it is asked to.
package main

import (
	"fmt"
	"net/http"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"
)

func main() {
	if len(os.Args) > 1 {
		switch os.Args[1] {
		case "check":
			if _, err := os.Stat("/tmp/sick"); err == nil {
				fmt.Println("it is sick")
				os.Exit(3)
			}
			return
		case "read":
			if _, err := os.ReadFile(os.Args[2]); err != nil {
				fmt.Println(err)
				os.Exit(4)
			}
			return
		case "fail":
			fmt.Fprintln(os.Stderr, "cannot go on: the mooring is taken")
			os.Exit(7)
		}
	}
	if os.Getenv("PORT") == "" { // a task
		fmt.Println("counted")
		return
	}
	stop := make(chan os.Signal, 1)
	signal.Notify(stop, syscall.SIGTERM)
	var hold []byte
	http.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		if os.Getenv("VERSION") == "bad" && r.URL.Path == "/" {
			w.WriteHeader(http.StatusInternalServerError)
		}
		fmt.Fprintln(w, "version", os.Getenv("VERSION"))
	})
	http.HandleFunc("/environment", func(w http.ResponseWriter, r *http.Request) { fmt.Fprintln(w, strings.Join(os.Environ(), "\n")) })
	http.HandleFunc("/file", func(w http.ResponseWriter, r *http.Request) {
		text, err := os.ReadFile(r.URL.Query().Get("name"))
		fmt.Fprintf(w, "%s%v", text, err)
	})
	http.HandleFunc("/write", func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, os.WriteFile(r.URL.Query().Get("name"), []byte("written"), 0o600))
	})
	http.HandleFunc("/reach", func(w http.ResponseWriter, r *http.Request) {
		response, err := (&http.Client{Timeout: 3 * time.Second}).Get(r.URL.Query().Get("at"))
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadGateway)
			return
		}
		fmt.Fprint(w, response.Status)
	})
	http.HandleFunc("/crash", func(http.ResponseWriter, *http.Request) {
		fmt.Fprintln(os.Stderr, "the tide took it")
		os.Exit(5)
	})
	http.HandleFunc("/eat", func(http.ResponseWriter, *http.Request) {
		for range 64 {
			more := make([]byte, 8<<20)
			for i := range more {
				more[i] = 1
			}
			hold = append(hold, more...)
		}
	})
	fmt.Println("ready on", os.Getenv("PORT"))
	go func() { fmt.Fprintln(os.Stderr, http.ListenAndServe(":"+os.Getenv("PORT"), nil)) }()
	<-stop
	fmt.Println("leaving", len(hold))
}
