package dialect

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"hen-roost/internal/connect"
	"hen-roost/internal/core/model"
	language "hen-roost/internal/dialect"
)

// jobFor is by how many times our patience a job may take to be run.
const jobFor = 15

// job hands what the acts of a stage take in as one job, waits until it has run, and takes its output apart.
func (b *batch) job(ctx context.Context, ready []int) {
	var lines []string
	var whose []int // by line
	for _, i := range ready {
		if b.Acts[i].Verb == model.AdoptIt || b.displaced(b.Acts[i]) {
			continue
		}
		var own []string
		err := b.typed(b.Acts[i], func(line string, _ language.Command, _ language.Vars) (string, error) {
			own = append(own, line)
			return "", nil
		})
		if err != nil {
			b.Trouble[i] = errors.New(connect.Printable(err.Error()))
			continue
		}
		for _, l := range own {
			lines, whose = append(lines, l), append(whose, i)
		}
	}
	if len(lines) == 0 {
		return
	}
	output, err := b.runJob(ctx, lines)
	for k, i := range whose {
		why, told := output[k+1]
		switch {
		case err != nil && language.Broken(err):
			b.Lost = err
			return
		case b.Trouble[i] != nil:
		case err != nil:
			b.Trouble[i] = errors.New(connect.Printable(err.Error()))
		case !told:
			b.Trouble[i] = fmt.Errorf("the job's output says nothing of its statement %d", k+1)
		case b.file.Failure(why) != "":
			b.Trouble[i] = errors.New(connect.Printable(b.file.Failure(why)))
		}
	}
	for _, i := range ready {
		if b.Trouble[i] == nil && b.Acts[i].Verb != model.AdoptIt {
			b.done = append(b.done, b.Acts[i])
		}
	}
}

// runJob hands statements in, and returns what the output says of each, counted from 1.
func (s *session) runJob(ctx context.Context, lines []string) (map[int]string, error) {
	j, vars := s.file.Job, s.vars()
	var text strings.Builder
	for k, l := range lines {
		if j.Before.Raw != "" {
			text.WriteString(strings.ReplaceAll(j.Before.Raw, "${n}", strconv.Itoa(k+1)) + "\n")
		}
		text.WriteString(l + "\n")
	}
	say := func(c language.Command, input string) (answer string, err error) {
		err = s.file.Sent([]language.Command{c}, vars, func(line string, _ language.Command) (string, error) {
			answer, err = s.say(ctx, line, nil, vars, input)
			return "", err
		})
		return answer, err
	}
	answer, err := say(j.Hand, text.String())
	if err != nil {
		return nil, err
	}
	if why := s.file.Failure(answer); why != "" {
		return nil, failed(why)
	}
	m := j.Number.FindStringSubmatch(answer)
	if m == nil {
		return nil, fmt.Errorf("what was handed in was answered with %q, in which there is no number of a job", clipped(answer))
	}
	vars["job"] = m[j.Number.SubexpIndex("job")]
	until, pause := time.Now().Add(jobFor*s.access.Patience()), 20*time.Millisecond
	for {
		if answer, err = say(j.Ready, ""); err != nil {
			return nil, err
		}
		if why := s.file.Failure(answer); why != "" {
			return nil, failed(why)
		}
		if j.Is.MatchString(strings.TrimRight(answer, "\r\n")) {
			break
		}
		if time.Now().After(until) {
			return nil, fmt.Errorf("the job %v has not run within %s", vars["job"], jobFor*s.access.Patience())
		}
		select {
		case <-time.After(pause):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
		pause = min(2*pause, 5*time.Second)
	}
	if answer, err = say(j.Output, ""); err != nil {
		return nil, err
	}
	out, n := map[int]string{}, 0
	for line := range strings.Lines(answer) {
		if m := j.Each.FindStringSubmatch(strings.TrimRight(line, "\r\n")); m != nil {
			n, _ = strconv.Atoi(m[j.Each.SubexpIndex("n")])
			out[n] = ""
		} else if n > 0 {
			out[n] += line
		}
	}
	return out, nil
}

func clipped(s string) string {
	if r := []rune(s); len(r) > 200 {
		return string(r[:200]) + "…"
	}
	return s
}
