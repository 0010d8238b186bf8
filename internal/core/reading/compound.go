package reading

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"unicode/utf16"
)

// compound is a compound file, the container of old office documents and of
// encrypted ones ([MS-CFB]; the sections named here are that document's).
type compound struct {
	r       io.ReaderAt
	size    int64
	shift   uint // of a sector's size
	fat     []uint32
	mini    []uint32
	cutoff  uint64 // streams below it lie in the mini stream
	root    entry
	entries []entry
}

// entry is an object of the directory (2.6).
type entry struct {
	name  string
	kind  byte // 1 a storage, 2 a stream, 5 the root
	start uint32
	size  uint64
}

const (
	compoundMark = "\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"
	endOfChain   = 0xfffffffe // 2.1
	miniShift    = 6
	// mostSectors bounds what is kept of a file's tables: 2 GiB in sectors of
	// 512 bytes.
	mostSectors = 4 << 20
	mostEntries = 1 << 16
)

// errCut is why a container cannot be read of which the end is missing.
var errCut = errors.New("it ends too early")

func openCompound(r io.ReaderAt, size int64) (*compound, error) {
	var head [512]byte
	if _, err := r.ReadAt(head[:], 0); err != nil {
		return nil, errCut
	}
	le := binary.LittleEndian
	c := &compound{r: r, size: size, shift: uint(le.Uint16(head[0x1e:])), cutoff: uint64(le.Uint32(head[0x38:]))}
	if c.shift != 9 && c.shift != 12 || le.Uint16(head[0x20:]) != miniShift {
		return nil, fmt.Errorf("its sectors have an unknown size")
	}
	// 2.5: the sectors of the allocation table are listed in the header, and
	// then in a chain of sectors of its own.
	count, inChain := le.Uint32(head[0x2c:]), le.Uint32(head[0x48:])
	if count > mostSectors>>(c.shift-2) || inChain > count {
		return nil, fmt.Errorf("its allocation table has an impossible length")
	}
	table := make([]uint32, 0, count)
	for i := 0; i < 109 && len(table) < int(count); i++ {
		table = append(table, le.Uint32(head[0x4c+4*i:]))
	}
	for at := le.Uint32(head[0x44:]); len(table) < int(count); inChain-- {
		if inChain == 0 {
			return nil, fmt.Errorf("its allocation table is not whole")
		}
		more, err := c.sector(at)
		if err != nil {
			return nil, err
		}
		last := len(more) - 1
		table = append(table, more[:min(last, int(count)-len(table))]...)
		at = more[last]
	}
	for _, at := range table {
		part, err := c.sector(at)
		if err != nil {
			return nil, err
		}
		c.fat = append(c.fat, part...)
	}
	if err := c.directory(le.Uint32(head[0x30:])); err != nil {
		return nil, err
	}
	var err error
	c.mini, err = c.table(le.Uint32(head[0x3c:]))
	return c, err
}

func (c *compound) sector(at uint32) ([]uint32, error) {
	b := make([]byte, 1<<c.shift)
	if err := c.read(b, at); err != nil {
		return nil, err
	}
	numbers := make([]uint32, len(b)/4)
	for i := range numbers {
		numbers[i] = binary.LittleEndian.Uint32(b[4*i:])
	}
	return numbers, nil
}

// read fills b with a sector; the file's last may be cut.
func (c *compound) read(b []byte, at uint32) error {
	if at >= endOfChain-4 {
		return fmt.Errorf("a chain of sectors leads nowhere")
	}
	n, err := c.r.ReadAt(b, (int64(at)+1)<<c.shift)
	if n == 0 {
		return errCut
	}
	if err == io.EOF {
		clear(b[n:])
		err = nil
	}
	return err
}

// chain lists the sectors of a chain.
func chain(table []uint32, start uint32) ([]uint32, error) {
	var list []uint32
	for at := start; at != endOfChain; at = table[at] {
		if int64(at) >= int64(len(table)) {
			return nil, errCut
		}
		if list = append(list, at); len(list) > len(table) {
			return nil, fmt.Errorf("a chain of sectors runs in a circle")
		}
	}
	return list, nil
}

func (c *compound) table(start uint32) ([]uint32, error) {
	list, err := chain(c.fat, start)
	var all []uint32
	for _, at := range list {
		if err != nil {
			break
		}
		var part []uint32
		part, err = c.sector(at)
		all = append(all, part...)
	}
	return all, err
}

func (c *compound) directory(start uint32) error {
	list, err := chain(c.fat, start)
	if err != nil {
		return err
	}
	b := make([]byte, 1<<c.shift)
	for _, at := range list {
		if err := c.read(b, at); err != nil {
			return err
		}
		for d := b; len(d) > 0; d = d[128:] {
			kind, length := d[0x42], int(binary.LittleEndian.Uint16(d[0x40:]))
			if kind == 0 || length < 2 || length > 64 {
				continue
			}
			name := make([]uint16, length/2-1)
			for i := range name {
				name[i] = binary.LittleEndian.Uint16(d[2*i:])
			}
			e := entry{string(utf16.Decode(name)), kind, binary.LittleEndian.Uint32(d[0x74:]), binary.LittleEndian.Uint64(d[0x78:])}
			if c.shift == 9 {
				e.size &= 0xffffffff // 2.6.3: the upper half may hold anything
			}
			if kind == 5 {
				c.root = e
			}
			if c.entries = append(c.entries, e); len(c.entries) > mostEntries {
				return fmt.Errorf("its directory has more than %d entries", mostEntries)
			}
		}
	}
	return nil
}

// has reports whether there is a stream of that name, in whatever storage.
func (c *compound) has(name string) bool {
	_, ok := c.find(name)
	return ok
}

func (c *compound) find(name string) (entry, bool) {
	for _, e := range c.entries {
		if e.kind == 2 && e.name == name {
			return e, true
		}
	}
	return entry{}, false
}

// whole sees that every sector of every stream is in the file.
func (c *compound) whole() error {
	last := uint32(max(0, (c.size-1)>>c.shift-1)) // the last sector that begins in the file
	for _, e := range c.entries {
		if e.kind == 1 || e.size == 0 || e.kind == 2 && e.size < c.cutoff {
			continue
		}
		list, err := chain(c.fat, e.start)
		if err != nil {
			return err
		}
		if uint64(len(list))<<c.shift < e.size {
			return errCut
		}
		for _, at := range list {
			if at > last {
				return errCut
			}
		}
	}
	return nil
}

// open returns a reader of a stream.
func (c *compound) open(e entry) (io.Reader, error) {
	table, start, shift := c.fat, e.start, c.shift
	var home []uint32 // the sectors of the mini stream
	if e.kind == 2 && e.size < c.cutoff {
		var err error
		if home, err = chain(c.fat, c.root.start); err != nil {
			return nil, err
		}
		table, shift = c.mini, miniShift
	}
	if e.size == 0 {
		return io.LimitReader(nil, 0), nil
	}
	list, err := chain(table, start)
	if err != nil {
		return nil, err
	}
	return io.LimitReader(&stream{c: c, list: list, home: home, shift: shift}, int64(min(e.size, 1<<62))), nil
}

// stream reads the sectors of a chain one after the other.
type stream struct {
	c     *compound
	list  []uint32
	home  []uint32
	shift uint
	rest  []byte
	buf   []byte
}

func (s *stream) Read(p []byte) (int, error) {
	if len(s.rest) == 0 {
		if len(s.list) == 0 {
			return 0, io.EOF
		}
		if s.buf == nil {
			s.buf = make([]byte, 1<<s.c.shift)
		}
		at := s.list[0]
		if s.home == nil {
			if err := s.c.read(s.buf, at); err != nil {
				return 0, err
			}
			s.rest = s.buf
		} else {
			offset := int64(at) << miniShift
			sector := offset >> s.c.shift
			if sector >= int64(len(s.home)) {
				return 0, errCut
			}
			if err := s.c.read(s.buf, s.home[sector]); err != nil {
				return 0, err
			}
			within := offset & (1<<s.c.shift - 1)
			s.rest = s.buf[within : within+1<<miniShift]
		}
		s.list = s.list[1:]
	}
	n := copy(p, s.rest)
	s.rest = s.rest[n:]
	return n, nil
}
