package worker

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"syscall"
	"time"

	"metaplasis/internal/core/media"
	"metaplasis/internal/core/slate"
	"metaplasis/internal/core/transcode"
	"metaplasis/internal/core/trial"
)

// A job is work beside the channels, in a child process of its own with the lowest priority: nothing on air waits for
// it, and it ends with its context. In come messages as for a worker, over standard input; out come lines of JSON.

// jobEnvironment tells the child that it is to do a job.
const jobEnvironment = "METAPLASIS_JOB"

// job is what a child is to do.
type job struct {
	Trial *trial.Request    `json:"trial,omitempty"`
	Slate *slate.Request    `json:"slate,omitempty"`
	Code  *transcode.Config `json:"code,omitempty"`
	Probe []string          `json:"probe,omitempty"` // files that are to be looked into
}

// jobAnswer is one line that comes back.
type jobAnswer struct {
	Point *trial.Point `json:"point,omitempty"`
	Index int          `json:"index"`
	File  []byte       `json:"file,omitempty"`
	Track *codedTrack  `json:"track,omitempty"`
	Unit  *codedUnit   `json:"unit,omitempty"`
	Error string       `json:"error,omitempty"`
}

// Bounds of a job: processes that hold what strangers sent stay small.
const (
	jobMemory  = 2 << 30
	jobLongest = 5 * time.Minute
	jobUnits   = 64 << 20 // bytes
	lowest     = 19       // nice
)

// errTooMuch says that a job was given more than it takes.
var errTooMuch = fmt.Errorf("found more than %d MB of media, expected less", jobUnits>>20)

// runJob is the child's side.
func runJob(in io.Reader, out io.Writer) error {
	_ = syscall.Setpriority(syscall.PRIO_PROCESS, 0, lowest)
	bound(jobMemory)
	w := json.NewEncoder(out)
	if err := doJob(bufio.NewReader(in), w); err != nil {
		return w.Encode(jobAnswer{Error: err.Error()})
	}
	return nil
}

func doJob(r *bufio.Reader, w *json.Encoder) error {
	kind, body, err := readMessage(r)
	if err != nil {
		return err
	}
	var j job
	if err := json.Unmarshal(body, &j); err != nil || kind != kindConfig {
		return fmt.Errorf("worker job: found a message of kind %q, expected a configuration: %w", kind, err)
	}
	if j.Code != nil {
		return doCode(j.Code, r, w)
	}
	if j.Probe != nil {
		return doProbe(j.Probe)
	}
	var units []media.AccessUnit
	total := 0
	for {
		kind, body, err := readMessage(r)
		if errors.Is(err, io.EOF) || err == nil && kind == kindDrain {
			break
		}
		if err != nil {
			return err
		}
		_, u, err := parseUnit(body)
		if err != nil {
			return err
		}
		if total += len(u.Data); total > jobUnits {
			return errTooMuch
		}
		units = append(units, u)
	}
	switch {
	case j.Trial != nil:
		return trial.Run(*j.Trial, units, func(i int, p trial.Point) bool { return w.Encode(jobAnswer{Point: &p, Index: i}) == nil })
	case j.Slate != nil:
		file, err := slate.Make(*j.Slate)
		if err != nil {
			return err
		}
		return w.Encode(jobAnswer{File: file})
	}
	return errors.New("worker job: found nothing to do")
}

// Try codes units in the background in the ways that a request names, and tells each point when it is known.
func Try(ctx context.Context, command func() *exec.Cmd, r trial.Request, units []media.AccessUnit, each func(i int, p trial.Point)) error {
	return do(ctx, command, job{Trial: &r}, units, func(a *jobAnswer) {
		if a.Point != nil {
			each(a.Index, *a.Point)
		}
	})
}

// MakeSlate makes the recording of a slate, an FLV file.
func MakeSlate(ctx context.Context, command func() *exec.Cmd, r slate.Request) (file []byte, err error) {
	err = do(ctx, command, job{Slate: &r}, nil, func(a *jobAnswer) { file = a.File })
	if err == nil && file == nil {
		err = errors.New("the slate could not be made")
	}
	return file, err
}

// do runs a job of units that are in memory, for a while at most.
func do(ctx context.Context, command func() *exec.Cmd, j job, units []media.AccessUnit, each func(*jobAnswer)) error {
	ctx, cancel := context.WithTimeout(ctx, jobLongest)
	defer cancel()
	return run(ctx, command, j, func(w *bufio.Writer) error {
		for i := range units {
			if err := writeMessage(w, kindAccess, unitHead(0, &units[i]), units[i].Data); err != nil {
				return err
			}
		}
		return nil
	}, each)
}

// run runs a job in a child process: feed writes to it, each takes what comes back.
func run(ctx context.Context, command func() *exec.Cmd, j job, feed func(*bufio.Writer) error, each func(*jobAnswer)) error {
	cmd := command()
	cmd.Env = append(cmd.Environ(), jobEnvironment+"=1")
	in, err := cmd.StdinPipe()
	if err != nil {
		return err
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("the job's process did not start: %w", err)
	}
	stop := context.AfterFunc(ctx, func() { _ = cmd.Process.Kill() })
	defer stop()
	fed := make(chan struct{})
	go func() {
		defer close(fed)
		w := bufio.NewWriterSize(in, 256<<10)
		err := writeMessage(w, kindConfig, mustJSON(j))
		if err == nil {
			err = feed(w)
		}
		if err != nil && ctx.Err() == nil && !errors.Is(err, syscall.EPIPE) {
			_ = cmd.Process.Kill() // what came so far is not all
		}
		_ = w.Flush() // a broken pipe shows in what comes back
		_ = in.Close()
	}()
	var failed error
	d := json.NewDecoder(out)
	for {
		var a jobAnswer
		if err := d.Decode(&a); err != nil {
			break
		}
		if a.Error != "" {
			failed = errors.New(a.Error)
			continue
		}
		each(&a)
	}
	state := cmd.Wait()
	<-fed
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case failed != nil:
		return failed
	case state != nil:
		return fmt.Errorf("the job's process ended: %w", state)
	}
	return nil
}

// bound limits what this process may take: memory that it may write to, and no dumps of it.
func bound(memory int64) {
	const data = 2 // RLIMIT_DATA
	set := func(what int, most uint64) {
		var now syscall.Rlimit
		if syscall.Getrlimit(what, &now) == nil {
			now.Cur = min(most, now.Max)
			_ = syscall.Setrlimit(what, &now)
		}
	}
	set(data, uint64(memory))
	set(syscall.RLIMIT_CORE, 0)
}

// jobWanted reports whether this child is to do a job.
func jobWanted() bool { return os.Getenv(jobEnvironment) != "" }
