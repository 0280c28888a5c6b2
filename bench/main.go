// Command bench measures whole operations beside the barest program that does
// the same, in one run on one machine. It prints one line a figure, tab-separated:
//
//	name  ours  bare minimum  ratio ours/bare (lower is better)  aim for the ratio  unit
//
// Machines differ and are noisy: trust the ratio.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"hen-roost/internal/service"
)

// figure is one thing that is measured.
type figure struct {
	name, unit string
	aim        float64 // for the ratio; 0: none
	measure    func(ctx context.Context, w *workbench) (ours, bare float64, err error)
}

var figures = []figure{
	{"survey-20-hosts", "s", 1.25, surveyHosts},
	{"fleet-survey-100-hosts", "s", 1.1, surveyFleet},
	{"fleet-100-accounts-of-2000", "s", 1.5, hundredOnce},
	{"fleet-100-accounts-one-by-one", "s", 0.2, hundredOneByOne},
	{"fleet-20000-accounts", "s", 1, largeHost},
	{"fleet-20000-accounts-memory", "MB", 1, largeHostMemory},
	{"fleet-sleeping", "s", 1.1, sleepingFleet},
	{"accounts-100-script", "s", 1.25, accountsScript},
	{"accounts-100-connections", "s", 0.05, accountsConnections},
	{"accounts-2000-change", "s", 1.25, accountsChange},
	{"directory-read-100000", "s", 2, directoryRead},
	{"directory-read-100000-memory", "MB", 1, directoryMemory},
	{"directory-add-2000", "s", 1.25, directoryAdd},
	{"directory-join-50000", "s", 1.176, joinCrowd},
	{"directory-join-50000-at-once", "s", 0, joinCrowdAtOnce},
	{"directory-changed-100", "ms", 1, changedHundred},
	{"database-mariadb-make-5000", "s", 1.25, mariaMake},
	{"database-mariadb-survey-20000", "s", 1.25, mariaSurvey},
	{"database-postgres-make-5000", "s", 1.25, postgresMake},
	{"database-postgres-survey-20000", "s", 1.25, postgresSurvey},
	{"application-survey-50000", "s", 1.25, applicationSurvey},
	{"application-make-2000", "s", 1.18, applicationMake},
	{"dialect-switches-200", "s", 1.25, dialectSwitches},
	{"application-bulk-requests", "requests", 0.2, applicationBulk},
	{"hostile-application-memory", "MB", 1, hostileMemory("application")},
	{"hostile-postgres-memory", "MB", 1, hostileMemory("postgres")},
	{"intake-push-10000", "s", 1, intakePush},
	{"company-parse", "s", 0, parseCompany},
	{"company-resolve-an-account", "µs", 1, resolveCompany},
	{"company-compare-first-an-account", "ns", 0, compareFirst},
	{"company-compare-an-account", "ns", 3, compareCompany},
	{"company-compare-two-processors", "s", 0.588, compareTwice},
	{"company-memory-an-account", "B", 1, memoryCompany},
	{"plan-memory-10000-targets", "MB", 1, planAlike},
	{"plan-memory-10000-unlike", "MB", 1, planUnlike},
	{"observe-2000000-accounts", "s", 1, observeFirst},
	{"observe-2000000-again", "s", 0, observeAgain},
	{"drift-page", "ms", 1, driftPage},
	{"observations-an-account", "B", 1, holdingMemory},
	{"follow-a-value", "ms", 1, followValue},
	{"follow-a-hire", "ms", 1, followHire},
	{"follow-a-leaver", "ms", 1, followLeaver},
	{"journal-10000-steps", "s", 1, journalSteps},
	{"journal-three-processes", "s", 0.4, threeProcesses},
	{"record-10000", "s", 1, recordPromise},
	{"record-10000-unchained", "s", 0, recordBare},
	{"record-long-entry", "B", 1, recordLong},
	{"record-long-check", "µs", 1, recordLongCheck},
	{"record-long-page", "ms", 1, recordLongPage},
	{"suspend-200-first", "s", 1, suspendFirst},
	{"suspend-200-last", "s", 1.5, suspendLast},
	{"join-500", "s", 1, join500},
	{"steps-long-step", "B", 0, stepsLong},
	{"steps-long-page", "ms", 1, stepsLongPage},
	{"past-long-state", "B", 1, pastLong},
	{"past-long-moment", "ms", 1, pastLongMoment},
	{"doors-declare", "s", 1, through("declare")},
	{"doors-declare-memory", "MB", 1, through("declare-memory")},
	{"doors-survey-first", "s", 2, through("survey-first")},
	{"doors-survey-unchanged", "s", 2, through("survey-unchanged")},
	{"doors-survey-changed", "s", 2, through("survey-changed")},
	{"doors-survey-sync", "s", 1, through("survey-sync")},
	{"doors-host-first", "s", 1, through("host-first")},
	{"doors-host-again", "s", 1, through("host-again")},
	{"doors-findings-page", "ms", 1, through("findings-page")},
	{"doors-overview", "ms", 1, through("overview")},
	{"doors-target-page", "ms", 1, through("target-page")},
	{"doors-drift-target", "s", 1, through("drift-target")},
	{"doors-drift-all", "s", 1, through("drift-all")},
	{"doors-who-has", "s", 1, through("who-has")},
	{"doors-who-has-crowd", "s", 1, through("who-has-crowd")},
	{"doors-edit-until-drift", "s", 1, through("edit-until-drift")},
	{"doors-rename-a-person", "s", 1, through("rename-a-person")},
	{"doors-import-5000", "s", 1, through("import-5000")},
	{"doors-draft", "s", 1, through("draft")},
	{"doors-draft-shown", "s", 1, through("draft-shown")},
	{"doors-run", "s", 1, through("run")},
	{"doors-role-renamed", "s", 1, through("role-renamed")},
	{"doors-findings-page-crowded", "ms", 1, through("findings-page-crowded")},
	{"doors-overview-crowded", "ms", 1, through("overview-crowded")},
	{"doors-target-page-crowded", "ms", 1, through("target-page-crowded")},
	{"doors-readers-overview", "s", 1, through("readers-overview")},
	{"doors-readers-person", "s", 1, through("readers-person")},
	{"doors-readers-overview-busy", "s", 1, through("readers-overview-busy")},
	{"doors-readers-person-busy", "s", 1, through("readers-person-busy")},
	{"doors-record-entry", "B", 1, through("record-entry")},
	{"doors-record-check-first", "µs", 0, through("record-check-first")},
	{"doors-record-check", "µs", 1, through("record-check")},
	{"doors-restart", "s", 1, through("restart")},
	{"doors-on-disk", "MB", 1, through("on-disk")},
}

// workbench is where the figures leave what others use, and what is to be cleaned up.
type workbench struct {
	dir      string
	binary   string // the program itself
	cleanup  []func()
	big      *bigDirectory
	crowded  *crowded
	engine   *engine
	doors    *doors
	long     *long
	cut      *cut
	oldSteps *longSteps
	past     *longPast
	seen     *observed
	standing *service.Service
}

func (w *workbench) later(f func()) { w.cleanup = append(w.cleanup, f) }

// close stops what the figures started, the newest first.
func (w *workbench) close() {
	for _, f := range slices.Backward(w.cleanup) {
		f()
	}
}

func main() {
	only := flag.String("only", "", "measure figures whose name begins so")
	binary := flag.String("binary", "bin/roost", "the program that doors are measured through")
	stand := flag.Bool("stand", false, "start the large company, and leave it standing until interrupted")
	read := flag.String("read-directory", "", "used by the bench itself")
	carry, in := flag.String("carry", "", "used by the bench itself"), flag.String("dir", "", "used by the bench itself")
	application := flag.String("application", "", "used by the bench itself")
	hostile := flag.Bool("hostile", false, "used by the bench itself")
	flag.Parse()
	if *hostile {
		if err := hostileFor(); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	ctx := context.Background()
	if *application != "" {
		exitOn(standFor(*application))
		return
	}
	if *carry != "" {
		exitOn(carryFor(ctx, *carry, *in))
		return
	}
	if *read != "" {
		exitOn(readDirectory(ctx, *read))
		return
	}
	dir, err := os.MkdirTemp("", "rb")
	exitOn(err)
	exitOn(os.Chmod(dir, 0o755))
	w := &workbench{dir: dir, binary: *binary}
	var failed error
	if *stand {
		failed = standLarge(w)
	} else {
		failed = run(ctx, w, *only)
	}
	w.close()
	os.RemoveAll(dir)
	exitOn(failed)
}

func run(ctx context.Context, w *workbench, only string) error {
	for _, f := range figures {
		if !strings.HasPrefix(f.name, only) {
			continue
		}
		ours, bare, err := f.measure(ctx, w)
		if err != nil {
			return fmt.Errorf("%s: %w", f.name, err)
		}
		aim := "-"
		if f.aim > 0 {
			aim = fmt.Sprintf("%.2f", f.aim)
		}
		fmt.Printf("%s\t%.3f\t%.3f\t%.2f\t%s\t%s\n", f.name, ours, bare, ours/bare, aim, f.unit)
	}
	return nil
}

func exitOn(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// pair measures ours and bare in turn, so that a machine that grows slower
// touches both alike, and returns the median of each.
func pair(rounds int, ours, bare func(round int) error) (float64, float64, error) {
	var a, b []float64
	for i := range turns(rounds) {
		for _, one := range []struct {
			do   func(int) error
			into *[]float64
		}{{ours, &a}, {bare, &b}} {
			began := time.Now()
			if err := one.do(i); err != nil {
				return 0, 0, err
			}
			*one.into = append(*one.into, time.Since(began).Seconds())
		}
	}
	return median(a), median(b), nil
}

func median(v []float64) float64 {
	slices.Sort(v)
	return v[len(v)/2]
}
