// Attack lets strangers, faults and floods loose on a service on loopback, beside a camera that sends
// and a player that plays, and tells of each what the service took and whether anybody was disturbed.
// Everything it starts it ends, and nothing leaves this machine.
//
//	go run ./e2e/attack          all attacks at length
//	go run ./e2e/attack quick    the same within two minutes
package main

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"time"
)

// attack is one thing that goes wrong.
type attack struct {
	name string
	run  func(r *rig) (what string, err error)
	// most is how much memory, in MB, the service may take at its peak.
	most int64
	// longest is how long the player of the source may wait for its next part.
	longest time.Duration
}

func attacks() []attack {
	const usual = 1500 * time.Millisecond
	return []attack{
		{"idle RTMP connections", idleConnections, 200, usual},
		{"unfinished RTMP messages", unfinishedMessages, 200, usual},
		{"RTMP floods", rtmpFlood, 200, usual},
		{"wrong keys", wrongKeys, 200, usual},
		{"sign-in storm", signInStorm, 250, usual},
		{"viewers with long names", longNames, 250, usual},
		{"readers that stand still", slowReaders, 250, usual},
		{"strangers at RTSP", strangersRTSP, 250, usual},
		{"strangers at WebRTC", strangersWebRTC, 250, usual},
		{"viewers who take nothing", viewersWhoTakeNothing, 250, usual},
		{"callers at SRT", strangersSRT, 250, usual},
		{"noise over UDP", strangersUDP, 250, usual},
		{"announcements of strangers", strangersStudio, 250, usual},
		{"strangers who push", strangersHTTP, 250, usual},
		{"descriptions that cost", costlyDescriptions, 250, usual},
		{"SETUPs of one track", manySetups, 250, usual},
		{"requests that wait", blockedRequests, 350, usual},
		{"heads of downloads", headsOfDownloads, 300, usual},
		{"offers nobody can take", offersNobodyCanTake, 300, usual},
		{"guesses from everywhere", guessesFromEverywhere, 350, usual},
		{"tokens nobody knows", unknownTokens, 300, usual},
		{"files that harm", filesThatHarm, 350, usual},
		{"lookers into what is kept", lookersIntoWhatIsKept, 300, usual},
		{"places that are closed", placesThatAreClosed, 300, usual},
		{"secrets that leak", secretsThatLeak, 300, usual},
		{"no descriptors left", noDescriptors, 250, usual},
		{"feed at full speed", fullSpeed, 400, usual},
		{"worker killed ten times", workerKilled, 400, usual},
		{"database killed", databaseKilled, 400, usual},
		{"database hung", databaseHung, 400, usual},
		{"disk full", diskFull, 400, usual},
		{"store gone and back", storeGone, 400, usual},
		{"store full", storeFull, 400, usual},
		{"store read-only", storeReadOnly, 400, usual},
		{"store slow", storeSlow, 400, usual},
		{"lookers back", lookersBack, 450, usual},
		// What these take stays with the process for a while, so that they come last.
		{"callers with a right key", callersWithAKey, 450, usual},
		{"receivers that pause", receiversThatPause, 500, usual},
		{"viewers by WebTransport", strangersWebTransport, 500, usual},
		{"connections over HTTP/3", strangersHTTP3, 550, usual},
	}
}

// attack [quick] [NAME …]: all attacks, or those whose names hold one of the words.
func main() {
	args := os.Args[1:]
	quick := len(args) > 0 && args[0] == "quick"
	if quick {
		args = args[1:]
	}
	if err := run(quick, args); err != nil {
		fmt.Fprintln(os.Stderr, "attack:", err)
		os.Exit(1)
	}
}

func run(quick bool, names []string) error {
	r, err := newRig(quick)
	if err != nil {
		return err
	}
	defer r.close()
	fmt.Printf("A service on loopback, a camera that sends, a player that plays; at rest it takes %d MB.\n\n", r.memory())
	fmt.Printf("%-26s %-58s %8s  %-11s  %-15s  %s\n", "ATTACK", "WHAT WAS DONE", "PEAK", "CAMERA", "PLAYER WAITED", "VERDICT")
	failed, passed := 0, 0
	for _, a := range attacks() {
		if len(names) > 0 && !slices.ContainsFunc(names, func(n string) bool { return strings.Contains(a.name, n) }) {
			continue
		}
		r.watch.reset()
		r.resetPeak()
		what, err := a.run(r)
		peak, worst, lost := r.peak(), r.watch.worst(), r.watch.lost()
		camera, verdict := "undisturbed", "stands"
		if lost > 0 {
			camera = fmt.Sprintf("lost %d ×", lost)
		}
		switch {
		case err != nil:
			verdict = "FALLS: " + err.Error()
		case lost > 0:
			verdict = "FALLS: the camera was disturbed"
		case worst > a.longest:
			verdict = "FALLS: the player waited"
		case peak > a.most:
			verdict = fmt.Sprintf("FALLS: more than %d MB", a.most)
		}
		if verdict == "stands" {
			passed++
		} else {
			failed++
		}
		fmt.Printf("%-26s %-58s %5d MB  %-11s  %12.2f s  %s\n", a.name, what, peak, camera, worst.Seconds(), verdict)
		if !r.alive() {
			return fmt.Errorf("the service has ended; it said:\n%s", r.said())
		}
	}
	fmt.Printf("\n%d passed, %d failed\n", passed, failed)
	if failed > 0 {
		return fmt.Errorf("%d attacks did harm; the service said:\n%s", failed, r.said())
	}
	return nil
}
