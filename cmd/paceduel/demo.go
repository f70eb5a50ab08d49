package main

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"paceduel/core/keeper"
	"paceduel/core/launch"
	"paceduel/core/logbook"
	"paceduel/harbour"
)

func (s *settings) demoCommand() *cobra.Command {
	var headless bool
	var seed uint64
	c := &cobra.Command{
		Use:   "demo",
		Short: "the application with Skerrow Harbour, an invented port, running inside",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			d, err := s.startDemo(cmd.Context())
			if err != nil {
				return err
			}
			defer d.close()
			demo := *s
			demo.env = d.env
			if demo.logbook == "" {
				demo.logbook = filepath.Join(d.dir, "logbook.sqlite")
			}
			if headless {
				if err := d.awaitReady(); err != nil {
					return err
				}
				files := []string{filepath.Join(d.dir, harbour.BerthBoard), filepath.Join(d.dir, harbour.Packer)}
				return demo.runFiles(cmd.Context(), files, demo.planOptions(), runOptions{seed: seed})
			}
			url, _ := d.env("HARBOUR")
			agents := &demoAgents{url: url, env: s.env}
			defer agents.close()
			cfg := demo.appConfig(d.dir, "the demo harbour")
			cfg.Elsewhere = agents.elsewhere
			return demo.runApp(cmd.Context(), cfg)
		},
	}
	c.Flags().BoolVar(&headless, "headless", false, "run a full example without a screen and print its verdict")
	c.Flags().Uint64Var(&seed, "seed", 4127, "of the running order, with --headless")
	return c
}

// demo is the harbour as a process of its own, so that what it costs is not charged to Pace Duel, and its folder.
type demo struct {
	dir     string
	remove  func() // dir, where it is a temporary one
	env     lookup
	service *exec.Cmd
	seat    *keeper.Seat
	out     *bufio.Reader // what the service prints
}

// demoDir is the folder of the demo's plans, data and logbook: beside the user's logbook, or a temporary one where that
// cannot be written, which remove removes.
func (s *settings) demoDir() (dir string, remove func(), err error) {
	if path, err := logbook.DefaultPath(s.env); err == nil {
		dir := filepath.Join(filepath.Dir(path), "demo")
		if harbour.Lay(dir) == nil {
			return dir, func() {}, nil
		}
	}
	if dir, err = os.MkdirTemp("", "skerrow-harbour-"); err != nil {
		return "", nil, fmt.Errorf("find a place for the demo's data: %w", err)
	}
	remove = func() { os.RemoveAll(dir) }
	if k, err := keeper.Shared(); err == nil {
		k.RemoveAfter(dir)
	}
	if err := harbour.Lay(dir); err != nil {
		remove()
		return "", nil, err
	}
	return dir, remove, nil
}

func (s *settings) startDemo(ctx context.Context) (*demo, error) {
	dir, remove, err := s.demoDir()
	if err != nil {
		return nil, err
	}
	self, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("start the harbour: find our own program: %w", err)
	}
	k, err := keeper.Shared()
	if err != nil {
		return nil, err
	}
	d := &demo{dir: dir, remove: remove}
	if d.seat, err = k.Seat(); err != nil {
		return nil, err
	}
	d.service = exec.Command(self, "harbour", "serve")
	d.service.WaitDelay = 3 * time.Second
	out, err := d.service.StdoutPipe()
	if err != nil {
		return nil, fmt.Errorf("start the harbour: %w", err)
	}
	if err := launch.Start(d.service, launch.Place{}, d.seat); err != nil {
		return nil, fmt.Errorf("start the harbour: %w", err)
	}
	context.AfterFunc(ctx, func() { d.service.Process.Signal(syscall.SIGTERM) })
	d.out = bufio.NewReader(out)
	line, err := d.out.ReadString('\n')
	url, ok := harbour.ReadAnnouncement(line)
	if err != nil || !ok {
		d.close()
		return nil, errors.Join(fmt.Errorf("start the harbour: it said %q instead of where it is open", line), err)
	}
	d.env = func(name string) (string, bool) {
		switch name {
		case "HARBOUR":
			return url, true
		case "PACEDUEL":
			return self, true
		}
		return s.env(name)
	}
	return d, nil
}

// awaitReady waits until the harbour's data is made, so that nobody's first touch pays for it.
func (d *demo) awaitReady() error {
	line, err := d.out.ReadString('\n')
	if err != nil || strings.TrimSpace(line) != harbour.Ready {
		return errors.Join(fmt.Errorf("make the harbour's data: it said %q", line), err)
	}
	return nil
}

func (d *demo) close() {
	d.service.Process.Signal(syscall.SIGTERM)
	d.service.Wait()
	d.seat.Release()
	d.remove()
}
