package origin

import (
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
)

// processorTimes reads what all processors have done since the machine started, in ticks of the kernel: in all, and
// nothing (proc(5), /proc/stat).
func processorTimes() (total, idle int64, err error) {
	b, err := os.ReadFile("/proc/stat")
	if err != nil {
		return 0, 0, err
	}
	line, _, _ := strings.Cut(string(b), "\n")
	fields := strings.Fields(line)
	const idleAt, waitAt, guestAt = 4, 5, 9 // guests are counted among users already
	if len(fields) <= waitAt || fields[0] != "cpu" {
		return 0, 0, errors.New("/proc/stat does not begin with the sum of all processors")
	}
	for i, f := range fields[1:min(len(fields), guestAt)] {
		v, err := strconv.ParseInt(f, 10, 64)
		if err != nil {
			return 0, 0, fmt.Errorf("/proc/stat: %w", err)
		}
		total += v
		if at := i + 1; at == idleAt || at == waitAt {
			idle += v
		}
	}
	return total, idle, nil
}
