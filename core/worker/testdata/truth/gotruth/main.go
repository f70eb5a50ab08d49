// Command gotruth has functions of known cost: as a worker, or in a bare loop when started with a function's name, how
// many operations, and its parameter. The bare loop says on standard error how many nanoseconds an operation took.
package main

import (
	"fmt"
	"os"
	"runtime/debug"
	"strconv"
	"time"

	worker "paceduel/workers/go"
)

var made = []worker.Function{
	{Name: "spin", Make: func(p worker.Params) worker.Loop {
		length := time.Duration(p["length"].(float64))
		return func(_ int, n int64) any {
			for range n {
				for began := time.Now(); time.Since(began) < length; {
				}
			}
			return 1
		}
	}},
	{Name: "sleep", Make: func(p worker.Params) worker.Loop {
		length := time.Duration(p["length"].(float64))
		return func(_ int, n int64) any {
			for range n {
				time.Sleep(length)
			}
			return 1
		}
	}},
	{Name: "allocate", Make: func(p worker.Params) worker.Loop {
		length := int(p["length"].(float64))
		var kept [64][]byte
		return func(_ int, n int64) any {
			for i := range n {
				kept[i&63] = make([]byte, length)
			}
			return 1
		}
	}},
	{Name: "print", Make: func(worker.Params) worker.Loop {
		return func(_ int, n int64) any {
			for range n {
				os.Stdout.WriteString("the tide at Skerrow Harbour is 3.2 m\n")
			}
			return 1
		}
	}},
}

func main() {
	debug.SetGCPercent(2000) // collections cost what else a process holds has them cost: they are to have little part
	for i := range made {
		made[i].Params = worker.Params{"length": 64.0}
	}
	if len(os.Args) < 4 {
		worker.Serve("truth", made...)
		return
	}
	n, err := strconv.ParseInt(os.Args[2], 10, 64)
	if err != nil {
		panic(err)
	}
	length, err := strconv.ParseFloat(os.Args[3], 64)
	if err != nil {
		panic(err)
	}
	for i := range made {
		if made[i].Name == os.Args[1] {
			loop := made[i].Make(worker.Params{"length": length})
			loop(0, n)
			began := time.Now()
			loop(0, n)
			fmt.Fprintln(os.Stderr, float64(time.Since(began))/float64(n))
		}
	}
}
