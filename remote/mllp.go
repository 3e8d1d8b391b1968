package remote

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"time"

	"ydrion/core/format/hl7"
	"ydrion/workspace"
)

// mllpExchange is a place that HL7 v2 messages are sent to by the Minimal Lower Layer Protocol (HL7 Version 2, transport
// specification MLLP, release 1): each in a frame, in order, with an acknowledgement to each.
type mllpExchange struct {
	place *workspace.Place
	watch *watch
	conn  net.Conn
	in    *bufio.Reader
}

var _ Exchange = (*mllpExchange)(nil)

// What frames are made of.
const (
	frameBegins = 0x0B
	frameEnds   = 0x1C
)

// mostMessage is how large a message may be that is sent in a frame, and an answer.
const (
	mostMessage = 64 << 20
	mostAnswer  = 1 << 20
)

func dialMLLP(ctx context.Context, p *workspace.Place) (Conn, error) {
	x := &mllpExchange{place: p, watch: newWatch(p.Patience)}
	c, err := x.watch.dial(ctx, "tcp", p.Port())
	if err != nil {
		return nil, fmt.Errorf("does not answer at %s: %w", p.Port(), plain(err))
	}
	if p.TLS == "implicit" {
		trusted, err := trust(p)
		if err != nil {
			return nil, err
		}
		over := tls.Client(c, trusted)
		defer x.watch.ask()()
		if err := over.HandshakeContext(ctx); err != nil {
			x.Break()
			if bad := distrusted(err); bad != nil {
				return nil, bad
			}
			return nil, fmt.Errorf("cannot be spoken to by TLS at %s: %w", p.Port(), plain(err))
		}
		c = over
	}
	x.conn, x.in = c, bufio.NewReader(c)
	return x, nil
}

// Send sends an output, which is one message, and waits for its acknowledgement.
func (x *mllpExchange) Send(s Sending) (string, error) {
	if s.Size > mostMessage {
		return "", &Refused{Says: fmt.Sprintf("a message of %d bytes is not sent in a frame; %d is the most", s.Size, mostMessage), Final: true}
	}
	content, err := s.Content()
	if err != nil {
		return "", err
	}
	message, err := io.ReadAll(content)
	if err := errors.Join(err, content.Close()); err != nil {
		return "", err
	}
	// Segments end with CR there, whatever ends them here.
	if message = bytes.ReplaceAll(message, []byte("\r\n"), []byte("\r")); bytes.IndexByte(message, '\r') < 0 {
		message = bytes.ReplaceAll(message, []byte("\n"), []byte("\r"))
	}
	message = bytes.TrimRight(message, "\r\n")
	head, is := headOf(message)
	switch {
	case !is:
		return "", &Refused{Says: "what is sent by MLLP is an HL7 message, which begins with MSH; this does not", Final: true}
	case bytes.Count(message, []byte("\rMSH"+head.separator)) > 0:
		return "", &Refused{Says: "there are several messages in it, and each is acknowledged by itself: say `one file per: record`", Final: true}
	case bytes.ContainsAny(message, "\x0B\x1C"):
		return "", &Refused{Says: "there is a character in it that ends a frame (0B or 1C)", Final: true}
	}
	defer x.watch.ask()()
	frame := append(append(append(make([]byte, 0, len(message)+4), frameBegins), message...), '\r', frameEnds, '\r')
	if n, err := x.conn.Write(frame); err != nil {
		return "", &Away{Place: x.place.Name, Err: fmt.Errorf("has broken off the connection: %w", plain(err)), Sent: n == len(frame)}
	}
	for {
		answer, err := readFrame(x.in, mostAnswer)
		if err != nil {
			if x.watch.late.Load() {
				err = fmt.Errorf("has not answered for %s", x.place.Patience)
				if head.silent {
					err = fmt.Errorf("%w, and the message asks for no answer (MSH-15, MSH-16): write AL into MSH-15", err)
				}
			} else {
				err = fmt.Errorf("has broken off the connection without an answer: %w", plain(err))
			}
			return "", &Away{Place: x.place.Name, Err: err, Sent: true}
		}
		if code, of, says := acknowledged(answer); of == head.control || of == "" {
			return judged(code, says)
		}
		// It is about another message.
	}
}

// head is what is needed of a message's first segment.
type head struct {
	separator, control string
	silent             bool // it wants no acknowledgement (MSH-15, MSH-16; HL7 table 0155)
}

func headOf(message []byte) (h head, is bool) {
	fields := hl7.Header(message)
	if fields == nil {
		return h, false
	}
	field := func(n int) string { // MSH-n
		if n-1 < len(fields) {
			return string(fields[n-1])
		}
		return ""
	}
	h.separator, h.control = field(1), field(10)
	h.silent = field(15) == "NE" && (field(16) == "" || field(16) == "NE")
	return h, true
}

// readFrame reads what is in the next frame.
func readFrame(in *bufio.Reader, most int) ([]byte, error) {
	for {
		b, err := in.ReadByte()
		if err != nil {
			return nil, err
		}
		if b == frameBegins {
			break
		}
	}
	var out []byte
	for {
		part, err := in.ReadSlice(frameEnds)
		if out = append(out, part...); len(out) > most {
			return nil, fmt.Errorf("an answer of more than %d bytes", most)
		}
		if err == nil {
			break
		}
		if !errors.Is(err, bufio.ErrBufferFull) {
			return nil, err
		}
	}
	if b, err := in.ReadByte(); err == nil && b != '\r' {
		if err := in.UnreadByte(); err != nil {
			return nil, err
		}
	}
	return out[:len(out)-1], nil
}

// acknowledged reads an acknowledgement: its code (HL7 table 0008), the control id of the message that it is about, and what it says.
func acknowledged(answer []byte) (code, of, says string) {
	separator := "|"
	if h, is := headOf(answer); is {
		separator = h.separator
	}
	for line := range strings.SplitSeq(strings.ReplaceAll(string(answer), "\n", "\r"), "\r") {
		fields := strings.Split(line, separator)
		at := func(n int) string {
			if n < len(fields) {
				return fields[n]
			}
			return ""
		}
		switch fields[0] {
		case "MSA":
			code, of, says = at(1), at(2), or(says, at(3))
		case "ERR":
			says = strings.TrimSpace(says + " " + or(at(8), at(7), at(3), at(1)))
		}
	}
	return code, of, says
}

// judged says what an acknowledgement means.
func judged(code, says string) (string, error) {
	is := "it answers " + or(code, "without a code")
	if says != "" {
		is += fmt.Sprintf(": %.300s", says)
	}
	switch code {
	case "AA", "CA":
		return is, nil
	case "AR", "CR":
		return "", &Refused{Says: is, Final: true}
	}
	return "", &Refused{Says: is}
}

// Repeats: the receiver knows a message that comes a second time by its control id (MSH-10).
func (x *mllpExchange) Repeats() bool { return true }

// Rest looks whether the connection was ended from the other side.
func (x *mllpExchange) Rest() error {
	if err := x.conn.SetReadDeadline(time.Now().Add(time.Millisecond)); err != nil {
		return err
	}
	_, err := x.in.Peek(1)
	if !errors.Is(err, os.ErrDeadlineExceeded) {
		return fmt.Errorf("the connection has ended: %v", err)
	}
	return x.conn.SetReadDeadline(time.Time{})
}

func (x *mllpExchange) Break() { x.watch.end() }
