// Command intake measures what comes in: the upload of a large file beside sha256sum and
// cp of the same file, a connection that is cut half-way, and the profile of a large CSV
// file beside a pass that only parses it. See bench/RESULTS.md.
package main

import (
	"context"
	"encoding/csv"
	"errors"
	"flag"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"innerladder/bench/house"
	"innerladder/internal/client"
	"innerladder/internal/intake"
	"innerladder/internal/wire"
)

var (
	upload = flag.Int64("upload", 4<<30, "`BYTES` of the file to upload")
	table  = flag.Int64("table", 1<<30, "`BYTES` of the CSV file to profile")
	rounds = flag.Int("rounds", 3, "rounds of each")
	binary = flag.String("binary", "bin/innerladder", "the service")
	dir    = flag.String("dir", "", "`DIR` for the files; a temporary one when not given")
)

func main() {
	flag.Parse()
	if err := run(); err != nil {
		log.Fatal(err)
	}
}

func run() error {
	if *dir == "" {
		d, err := os.MkdirTemp("", "innerladder-intake-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(d)
		*dir = d
	}
	if *upload > 0 {
		if err := uploads(); err != nil {
			return err
		}
	}
	if *table > 0 {
		return profiles()
	}
	return nil
}

// random writes a file of bytes that cannot be compressed.
func random(path string, size int64) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	r := rand.NewChaCha8([32]byte{7})
	if _, err := io.CopyN(f, r, size); err != nil {
		return err
	}
	return f.Close()
}

// median runs something several times and takes the middle.
func median(do func() error) (time.Duration, error) {
	var times []time.Duration
	for range *rounds {
		begin := time.Now()
		if err := do(); err != nil {
			return 0, err
		}
		times = append(times, time.Since(begin))
	}
	slices.Sort(times)
	return times[len(times)/2], nil
}

func uploads() error {
	file := filepath.Join(*dir, "large.bin")
	if err := random(file, *upload); err != nil {
		return err
	}
	data := filepath.Join(*dir, "data")
	h, err := house.Start(*binary, data)
	if err != nil {
		return err
	}
	defer h.Stop()
	c := client.New(h.Server, h.Token)
	ctx := context.Background()
	// One of each in turn, so that a slow minute hits both.
	var ours, theirs, hash, cp []time.Duration
	for i := range *rounds {
		begin := time.Now()
		if err := exec.Command("sha256sum", file).Run(); err != nil {
			return err
		}
		hashed := time.Since(begin)
		if err := exec.Command("cp", file, file+".copy").Run(); err != nil {
			return err
		}
		both := time.Since(begin)
		_ = os.Remove(file + ".copy")
		begin = time.Now()
		up, err := c.Upload(ctx, file, "large.bin")
		if err != nil {
			return err
		}
		took := time.Since(begin)
		hash, cp, theirs, ours = append(hash, hashed), append(cp, both-hashed), append(theirs, both), append(ours, took)
		if i == 0 {
			begin := time.Now()
			v, err := c.Register(ctx, wire.Registration{
				Model:   "large",
				Uploads: []wire.UploadUse{{ID: up.ID, Part: wire.PartArtifact}},
			}, nil)
			if err != nil {
				return err
			}
			fmt.Printf("registering what was uploaded: %s, %s\n", time.Since(begin).Round(time.Millisecond), v.Ref)
		}
	}
	for _, t := range []([]time.Duration){ours, theirs, hash, cp} {
		slices.Sort(t)
	}
	m := *rounds / 2
	_, most := h.Memory()
	fmt.Printf("upload of %.1f GiB: %s; sha256sum and cp: %s (%s and %s); %.2f of their rate; memory of the service "+
		"at most %s\n", float64(*upload)/(1<<30), ours[m].Round(time.Millisecond), theirs[m].Round(time.Millisecond),
		hash[m].Round(time.Millisecond), cp[m].Round(time.Millisecond), float64(theirs[m])/float64(ours[m]), most)
	return cut(ctx, h.Server, h.Token, file)
}

// cut uploads through a relay that breaks the first connection half-way.
func cut(ctx context.Context, server, token, file string) error {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer l.Close()
	pieces := 0
	go func() {
		for {
			from, err := l.Accept()
			if err != nil {
				return
			}
			to, err := net.Dial("tcp", strings.TrimPrefix(server, "http://"))
			if err != nil {
				return
			}
			go func() {
				limit := int64(1) << 62
				if pieces++; pieces == 1 {
					limit = *upload / 2
				}
				_, _ = io.CopyN(to, from, limit)
				_, _ = from.Close(), to.Close()
			}()
			go func() { _, _ = io.Copy(from, to) }()
		}
	}()
	up, err := client.New("http://"+l.Addr().String(), token).Upload(ctx, file, "large.bin")
	if err != nil {
		return err
	}
	fmt.Printf("cut half-way: complete is %v after %d connections\n", up.Complete, pieces)
	return nil
}

// writeTable writes rows like those of a heating utility, ten columns.
func writeTable(path string, size int64) (rows int, err error) {
	f, err := os.Create(path)
	if err != nil {
		return 0, err
	}
	r := rand.New(rand.NewPCG(1, 2))
	buffer := []byte("outdoor_c,wind_ms,solar_wm2,hour,weekday,supply_c,demand_1h_mw,demand_24h_mw,mix,demand_mw\n")
	mixes := []string{"old-town", "harbour", "terraces", "works"}
	for written := int64(0); written < size; rows++ {
		t := r.NormFloat64()*8 + 5
		for _, x := range []float64{t, r.ExpFloat64() * 5} {
			buffer = append(strconv.AppendFloat(buffer, x, 'f', 2, 64), ',')
		}
		for _, n := range []int{r.IntN(900), r.IntN(24), r.IntN(7)} {
			buffer = append(strconv.AppendInt(buffer, int64(n), 10), ',')
		}
		for _, x := range []float64{70 - t, 2 - t/20, 2 - t/19} {
			buffer = append(strconv.AppendFloat(buffer, x, 'f', 3, 64), ',')
		}
		buffer = append(append(buffer, mixes[r.IntN(4)]...), ',')
		buffer = append(strconv.AppendFloat(buffer, 2-t/20+r.NormFloat64()/10, 'f', 4, 64), '\n')
		if len(buffer) > 1<<20 {
			written += int64(len(buffer))
			if _, err := f.Write(buffer); err != nil {
				return rows, err
			}
			buffer = buffer[:0]
		}
	}
	return rows, f.Close()
}

func profiles() error {
	path := filepath.Join(*dir, "rows.csv")
	rows, err := writeTable(path, *table)
	if err != nil {
		return err
	}
	open := func(do func(*os.File) error) func() error {
		return func() error {
			f, err := os.Open(path)
			if err != nil {
				return err
			}
			defer f.Close()
			return do(f)
		}
	}
	parse, err := median(open(func(f *os.File) error {
		in := csv.NewReader(f)
		in.ReuseRecord = true
		for {
			if _, err := in.Read(); errors.Is(err, io.EOF) {
				return nil
			} else if err != nil {
				return err
			}
		}
	}))
	if err != nil {
		return err
	}
	ours, err := median(open(func(f *os.File) error {
		p, err := intake.Profile("rows.csv", f, *table, nil)
		if err == nil && (p.Rows() != rows || p.Profile(nil).Rows != rows) {
			err = fmt.Errorf("%d rows of %d were profiled", p.Rows(), rows)
		}
		return err
	}))
	if err != nil {
		return err
	}
	_, most := house.Memory(os.Getpid())
	fmt.Printf("profile of %.1f GiB, %d rows of 10 columns: %s; only parsing it: %s; ratio %.2f; memory at most %s\n",
		float64(*table)/(1<<30), rows, ours.Round(time.Millisecond), parse.Round(time.Millisecond),
		float64(ours)/float64(parse), most)
	return nil
}
