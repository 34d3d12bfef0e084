package inventory

import (
	"bytes"
	"database/sql"
	"encoding/binary"
	"fmt"
	"os"

	_ "modernc.org/sqlite" // the newer kind of RPM database
)

// Places of RPM databases, of which a tree has one.
var rpmFolders = []string{"usr/lib/sysimage/rpm/", "var/lib/rpm/"}

// rpmPackages reads an RPM database: rpmdb.sqlite, or a Berkeley hash file named Packages. It
// returns the path of one that it cannot read.
func rpmPackages(s Source, found map[string]string) (unread string) {
	for _, dir := range rpmFolders {
		for _, kind := range []struct {
			name string
			read func(file []byte, take func(header []byte)) error
		}{{"rpmdb.sqlite", readSQLite}, {"Packages", readHash}, {"Packages.db", readNothing}} {
			file := s.Read(dir + kind.name)
			if file == nil {
				continue
			}
			err := kind.read(file, func(header []byte) {
				if name, version := rpmHeader(header); name != "" {
					add(found, name, version)
				}
			})
			if err != nil {
				return dir + kind.name
			}
			return ""
		}
	}
	return ""
}

func readNothing([]byte, func([]byte)) error { return fmt.Errorf("a kind that is not known") }

// readSQLite reads the table Packages (hnum, blob).
func readSQLite(file []byte, take func(header []byte)) error {
	f, err := os.CreateTemp("", "zygos-rpm-") // the library reads files only
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(file)
	if e := f.Close(); err == nil {
		err = e
	}
	if err != nil {
		return err
	}
	db, err := sql.Open("sqlite", "file:"+f.Name()+"?mode=ro&immutable=1")
	if err != nil {
		return err
	}
	defer db.Close()
	rows, err := db.Query("SELECT blob FROM Packages")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var header []byte
		if err := rows.Scan(&header); err != nil {
			return err
		}
		take(header)
	}
	return rows.Err()
}

// Berkeley DB 5.3, dbinc/db_page.h: pages with a head of 26 bytes; those of a hash table hold offsets
// of items, of which every second is a value; a long value lies on a chain of overflow pages.
const (
	bdbMagic    = 0x061561
	bdbHead     = 26
	bdbHashOld  = 2
	bdbHash     = 13
	bdbOverflow = 7
	bdbOffPage  = 3
	bdbInPage   = 1
)

func readHash(file []byte, take func(header []byte)) error {
	if len(file) < 72 {
		return fmt.Errorf("too short")
	}
	var order binary.ByteOrder = binary.LittleEndian
	if order.Uint32(file[12:]) != bdbMagic {
		order = binary.BigEndian
	}
	size := int(order.Uint32(file[20:]))
	if order.Uint32(file[12:]) != bdbMagic || size < 512 || size > 1<<16 {
		return fmt.Errorf("no Berkeley hash file")
	}
	page := func(n uint32) []byte {
		if at := int(n) * size; at+size <= len(file) {
			return file[at : at+size]
		}
		return nil
	}
	for n := uint32(1); page(n) != nil; n++ {
		p := page(n)
		if p[25] != bdbHash && p[25] != bdbHashOld {
			continue
		}
		items := int(order.Uint16(p[20:]))
		if bdbHead+2*items > size {
			return fmt.Errorf("page %d is damaged", n)
		}
		offset := func(i int) int { return int(order.Uint16(p[bdbHead+2*i:])) }
		for i := 1; i < items; i += 2 {
			at := offset(i)
			switch {
			case at+12 <= size && p[at] == bdbOffPage:
				var value []byte
				next, total := order.Uint32(p[at+4:]), int(order.Uint32(p[at+8:]))
				for len(value) < min(total, len(file)) {
					o := page(next)
					if o == nil || o[25] != bdbOverflow {
						return fmt.Errorf("page %d is damaged", next)
					}
					used := int(order.Uint16(o[22:]))
					if used == 0 || bdbHead+used > size {
						return fmt.Errorf("page %d is damaged", next)
					}
					value, next = append(value, o[bdbHead:bdbHead+used]...), order.Uint32(o[16:])
				}
				take(value)
			case at < offset(i-1) && p[at] == bdbInPage:
				take(p[at+1 : offset(i-1)])
			default:
				return fmt.Errorf("page %d is damaged", n)
			}
		}
	}
	return nil
}

// rpmHeader reads name and version of a package from its header: counts of index entries and bytes,
// then the entries of tag, type, offset and count, then the bytes; all numbers are big-endian (RPM,
// "Package format v4", Header). Names are those of the tags there.
func rpmHeader(h []byte) (name, version string) {
	const tagName, tagVersion, tagRelease, tagEpoch, tagArch = 1000, 1001, 1002, 1003, 1022
	if len(h) < 8 {
		return "", ""
	}
	entries, bytesOf := int(binary.BigEndian.Uint32(h)), int(binary.BigEndian.Uint32(h[4:]))
	if entries > len(h)/16 || 8+16*entries+bytesOf > len(h) || bytesOf < 0 {
		return "", ""
	}
	data := h[8+16*entries:]
	text := map[uint32]string{}
	for i := range entries {
		e := h[8+16*i:]
		tag, at := binary.BigEndian.Uint32(e), int(binary.BigEndian.Uint32(e[8:]))
		switch {
		case at < 0 || at >= len(data):
		case tag == tagEpoch && at+4 <= len(data):
			text[tag] = fmt.Sprintf("%d:", binary.BigEndian.Uint32(data[at:]))
		case tag == tagName || tag == tagVersion || tag == tagRelease || tag == tagArch:
			end := bytes.IndexByte(data[at:], 0)
			if end >= 0 {
				text[tag] = string(data[at : at+end])
			}
		}
	}
	name, version = text[tagName], text[tagEpoch]+text[tagVersion]+"-"+text[tagRelease]
	if name == "gpg-pubkey" || text[tagVersion] == "" { // keys lie in the database too
		return "", ""
	}
	if arch := text[tagArch]; arch != "" {
		version += "." + arch
	}
	return name, version
}
