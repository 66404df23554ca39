package landing

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// names reads the names of an open folder as the system gives them. The standard
// library looks at each file whose kind the file system does not tell along with
// its name, as network file systems often do not; a listing looks at files
// anyway, and need not do so twice.
type names struct {
	dir *os.File
	buf []byte
}

// name is one name in a folder.
type name struct {
	name string
	kind uint8 // one of the system's DT_ constants; DT_UNKNOWN where it is not told
}

// namesAtOnce is how many bytes of names are in memory at a time.
const namesAtOnce = 64 << 10

func namesOf(dir *os.File) *names { return &names{dir, make([]byte, namesAtOnce)} }

// next returns some names, and none after the last.
func (n *names) next() ([]name, error) {
	var out []name
	for len(out) == 0 {
		size, err := unix.ReadDirent(int(n.dir.Fd()), n.buf)
		if err == unix.EINTR {
			continue
		}
		if err != nil || size <= 0 {
			return nil, err
		}
		// As getdents64(2) has it: inode, offset, length of the entry, kind, name.
		const lengthAt, kindAt, nameAt = 16, 18, 19
		for rest := n.buf[:size]; len(rest) > nameAt; {
			length := int(binary.NativeEndian.Uint16(rest[lengthAt:]))
			if length <= nameAt || length > len(rest) {
				return nil, fmt.Errorf("read %s: an entry of %d bytes", n.dir.Name(), length)
			}
			text, _, _ := bytes.Cut(rest[nameAt:length], []byte{0})
			if s := string(text); s != "." && s != ".." {
				out = append(out, name{s, rest[kindAt]})
			}
			rest = rest[length:]
		}
	}
	return out, nil
}
