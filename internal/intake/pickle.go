package intake

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"innerladder/internal/core/registry"
)

// unsafePickle is why a pickle is not safe to load.
const unsafePickle = "a pickle: loading it runs whatever code it names"

const (
	// mostOpcodes bounds how far a pickle is looked through.
	mostOpcodes = 5_000_000
	// mostImports bounds how many different imports are listed.
	mostImports = 200
	// longestImport is the longest text that can be part of an import.
	longestImport = 256
)

// What follows an opcode of a pickle.
type pickleArgument int

const (
	nothing     pickleArgument = iota
	oneByte                    // n bytes follow, fixed
	twoBytes                   //
	fourBytes                  //
	eightBytes                 //
	line                       // text to the end of the line
	twoLines                   // two of them: module and name
	counted1                   // 1, 4 or 8 bytes of length, then that many bytes
	counted4                   //
	counted8                   //
	text1                      // the same, and it is text
	text4                      //
	text8                      //
	unknownCode pickleArgument = -1
)

// pickleCodes says what follows each opcode, for protocols 0 to 5 (Python's pickletools).
var pickleCodes = func() (codes [256]pickleArgument) {
	for i := range codes {
		codes[i] = unknownCode
	}
	set := func(a pickleArgument, bytes string) {
		for i := range len(bytes) {
			codes[bytes[i]] = a
		}
	}
	set(nothing, "(.012NQRalbdo}]tesu)\x81\x85\x86\x87\x88\x89\x8f\x90\x91\x92\x93\x94\x97\x98")
	set(oneByte, "Khq\x80\x82")
	set(twoBytes, "M\x83")
	set(fourBytes, "Jjr\x84")
	set(eightBytes, "G\x95")
	set(line, "FILPSVgp")
	set(twoLines, "ci")
	set(counted1, "C\x8a")
	set(counted4, "B\x8b")
	set(counted8, "\x8e\x96")
	set(text1, "U\x8c")
	set(text4, "TX")
	set(text8, "\x8d")
	return codes
}()

// pickleScan walks the opcodes of a pickle without doing what they say.
type pickleScan struct {
	r       *bufio.Reader
	recent  [2]string // the last two texts that were pushed
	memo    []string
	imports map[string]bool
	proto   byte
}

// readPickle recognises a pickle and lists what it would import. It never runs it.
func readPickle(name string, r io.ReaderAt, size int64) (registry.Contents, error) {
	c := registry.Contents{Format: registry.FormatPickle, Unsafe: unsafePickle}
	if size == 0 {
		return c, badFile(name, "a pickle", 0, "the file is empty")
	}
	s := pickleScan{r: bufio.NewReaderSize(io.NewSectionReader(r, 0, size), window), imports: map[string]bool{}}
	whole, err := s.scan()
	if err != nil {
		return c, fmt.Errorf("reading %s: %w", name, err)
	}
	c.SayNumber("protocol", int64(s.proto))
	if list := slices.Sorted(maps.Keys(s.imports)); len(list) > 0 {
		c.Say("imports", strings.Join(list, ", "))
	}
	if !whole {
		c.Remarks = append(c.Remarks, "not all of it could be looked through, so it may import more than is listed")
	}
	return c, nil
}

// scan reads opcodes until the pickle stops; whole is false when it could not follow to
// the end. err is set only when the file cannot be read.
func (s *pickleScan) scan() (whole bool, err error) {
	for range mostOpcodes {
		code, err := s.r.ReadByte()
		if err == io.EOF {
			return false, nil
		}
		if err != nil {
			return false, err
		}
		if code == '.' {
			return true, nil
		}
		var ok bool
		if ok, err = s.step(code); err != nil || !ok {
			return false, err
		}
	}
	return false, nil
}

func (s *pickleScan) step(code byte) (ok bool, err error) {
	switch a := pickleCodes[code]; a {
	case nothing:
		switch code {
		case 0x93: // an import named by the last two texts
			s.use(s.recent[0], s.recent[1])
		case 0x94: // remember the top of the stack
			if len(s.memo) < 100_000 {
				s.memo = append(s.memo, s.recent[1])
			}
		}
	case oneByte, twoBytes, fourBytes, eightBytes:
		var b [8]byte
		n := map[pickleArgument]int{oneByte: 1, twoBytes: 2, fourBytes: 4, eightBytes: 8}[a]
		if _, err := io.ReadFull(s.r, b[:n]); err != nil {
			return false, ended(err)
		}
		switch at := binary.LittleEndian.Uint64(b[:]); {
		case code == 0x80:
			s.proto = b[0]
		case (code == 'h' || code == 'j') && at < uint64(len(s.memo)):
			s.push(s.memo[at])
		}
	case line:
		_, err := s.line()
		return err == nil, ended(err)
	case twoLines:
		module, err := s.line()
		if err != nil {
			return false, ended(err)
		}
		of, err := s.line()
		if err != nil {
			return false, ended(err)
		}
		s.use(module, of)
	case unknownCode:
		return false, nil
	default:
		return s.counted(a)
	}
	return true, nil
}

// counted passes over bytes with their length in front, and takes short texts in.
func (s *pickleScan) counted(a pickleArgument) (ok bool, err error) {
	var b [8]byte
	n := map[pickleArgument]int{counted1: 1, text1: 1, counted4: 4, text4: 4, counted8: 8, text8: 8}[a]
	if _, err := io.ReadFull(s.r, b[:n]); err != nil {
		return false, ended(err)
	}
	length := binary.LittleEndian.Uint64(b[:])
	if length > 1<<62 {
		return false, nil
	}
	text := a == text1 || a == text4 || a == text8
	if text && length <= longestImport {
		short := make([]byte, length)
		if _, err := io.ReadFull(s.r, short); err != nil {
			return false, ended(err)
		}
		s.push(string(short))
		return true, nil
	}
	if text {
		s.push("")
	}
	n64, err := io.CopyN(io.Discard, s.r, int64(length))
	return n64 == int64(length), ended(err)
}

func (s *pickleScan) push(text string) { s.recent[0], s.recent[1] = s.recent[1], text }

func (s *pickleScan) use(module, name string) {
	if len(s.imports) < mostImports && module != "" && name != "" {
		s.imports[cutText(module+"."+name)] = true
	}
}

// line reads to the end of a line, of which only the beginning is kept.
func (s *pickleScan) line() (string, error) {
	var kept []byte
	for {
		part, err := s.r.ReadSlice('\n')
		if room := longestImport - len(kept); room > 0 {
			kept = append(kept, part[:min(room, len(part))]...)
		}
		if err == nil {
			return strings.TrimRight(string(kept), "\r\n"), nil
		}
		if err != bufio.ErrBufferFull {
			return "", err
		}
	}
}

// ended makes the end of the file no error: the pickle just cannot be followed further.
func ended(err error) error {
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		return nil
	}
	return err
}
