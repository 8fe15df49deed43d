package deed

import (
	"errors"
	"fmt"
	"hash/crc32"
	"os"
	"strconv"
	"strings"
	"time"

	"fundus/internal/oscall"
)

// event is what a line of the log says.
type event string

// The events. Forward and back are about a stroke; the others end the deed.
const (
	beginForward event = "begin"
	endForward   event = "end"
	beginBack    event = "begin-back"
	endBack      event = "end-back"
	completed    event = "completed"
	takenBack    event = "taken-back"
	marked       event = "mark" // its text is a number: how far the stroke has come
	remark       event = "remark"
)

// position is where the devices stand.
type position struct {
	next   int   // the first stroke that is not done
	torn   bool  // stroke next may be done in part
	mark   int64 // of a torn stroke, the last that it set; 0 without one
	state  State
	bootID string // of the last line
}

// State is how far a deed got.
type State string

// The states.
const (
	Unfinished State = "unfinished"
	Done       State = "done"
	TakenBack  State = "taken back" // by recover or after an error: nothing is left of it
)

// journal appends lines to the log. Whatever announces something is durable
// before it returns.
type journal struct {
	f      *os.File
	at     position // behind the last line
	bootID string
	now    func() time.Time
}

func openJournal(path, bootID string, now func() time.Time) (*journal, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	at, err := readPosition(path)
	return &journal{f, at, bootID, now}, err
}

// line is CRC, time, boot id, event, stroke, text.
func (j *journal) line(e event, stroke int, text string) error {
	body := fmt.Sprintf("%s %s %s %d %s", j.now().UTC().Format(time.RFC3339Nano), j.bootID, e, stroke, strings.ReplaceAll(text, "\n", " "))
	if _, err := fmt.Fprintf(j.f, "%08x %s\n", crc32.ChecksumIEEE([]byte(body)), body); err != nil {
		return fmt.Errorf("log: %w", err)
	}
	if e == endForward || e == endBack {
		j.at.apply(e, stroke, 0)
		return nil // durable with the next line; until then the stroke counts as torn, which is safe
	}
	mark, _ := strconv.ParseInt(text, 10, 64)
	j.at.apply(e, stroke, mark)
	return oscall.SyncData(j.f)
}

func (j *journal) close() error { return j.f.Close() }

// parseLog finds the position. A last line that was torn is left out; a damaged
// line before others is ErrTorn.
func parseLog(data []byte) (position, error) {
	p := position{state: Unfinished}
	lines := strings.Split(string(data), "\n")
	for i, line := range lines {
		last := i >= len(lines)-2
		sum, body, _ := strings.Cut(line, " ")
		if fmt.Sprintf("%08x", crc32.ChecksumIEEE([]byte(body))) != sum || i == len(lines)-1 {
			if last {
				break
			}
			return p, fmt.Errorf("log: line %d: %w", i+1, ErrTorn)
		}
		words := strings.SplitN(body, " ", 5) // time, boot id, event, stroke, text
		if len(words) < 4 {
			return p, fmt.Errorf("log: line %d: %w", i+1, ErrTorn)
		}
		number, err := strconv.Atoi(words[3])
		if err != nil || number < 0 {
			return p, fmt.Errorf("log: line %d: %w", i+1, ErrTorn)
		}
		mark := int64(0)
		if event(words[2]) == marked {
			if mark, err = strconv.ParseInt(words[len(words)-1], 10, 64); err != nil || len(words) < 5 || mark < 0 {
				return p, fmt.Errorf("log: line %d: %w", i+1, ErrTorn)
			}
		}
		p.bootID = words[1]
		p.apply(event(words[2]), number, mark)
	}
	return p, nil
}

func (p *position) apply(e event, stroke int, mark int64) {
	switch e {
	case beginForward, beginBack:
		if !p.torn || p.next != stroke { // else it goes on from its mark
			p.mark = 0
		}
		p.next, p.torn, p.state = stroke, true, Unfinished
	case marked:
		p.next, p.torn, p.mark = stroke, true, mark
	case endForward:
		p.next, p.torn, p.mark = stroke+1, false, 0
	case endBack:
		p.next, p.torn, p.mark = stroke, false, 0
	case completed:
		p.state = Done
	case takenBack:
		p.state = TakenBack
	}
}

func readPosition(path string) (position, error) {
	data, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return position{state: Unfinished}, nil
	}
	if err != nil {
		return position{}, err
	}
	return parseLog(data)
}
