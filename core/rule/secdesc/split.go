package secdesc

import (
	"encoding/binary"
	"errors"

	"tarnwold/core/rule"
)

// errForm refuses bytes that Encode didn't write.
var errForm = errors.New("the bytes are not as Encode writes them")

// Split parts bytes that Encode wrote into their form, appended to form, and the
// identifiers that stand in it, in order: each is given to fn in binary, and the form
// has its length alone. Descriptors of one form differ in nothing but who is named, so
// that many of them are understood at once. Nothing is made of the bytes, so it is a
// tenth of what Decode takes.
func Split(b, form []byte, fn func(sid []byte)) ([]byte, error) {
	if len(b) < headerSize {
		return form, errForm
	}
	form = append(form, b[:headerSize]...)
	at := headerSize
	sid := func(end int) error {
		if end-at < 8 || end-at < 8+4*int(b[at+1]) {
			return errForm
		}
		n := 8 + 4*int(b[at+1])
		fn(b[at : at+n])
		form = append(form, byte(n))
		at += n
		return nil
	}
	for _, head := range []int{4, 8} { // owner and group
		if binary.LittleEndian.Uint32(b[head:]) == 0 {
			continue
		}
		if err := sid(len(b)); err != nil {
			return form, err
		}
	}
	for _, head := range []int{12, 16} { // audit list and rules
		if binary.LittleEndian.Uint32(b[head:]) == 0 {
			continue
		}
		if int(binary.LittleEndian.Uint32(b[head:])) != at || len(b)-at < listHeader {
			return form, errForm
		}
		end := at + int(binary.LittleEndian.Uint16(b[at+2:]))
		form = append(form, b[at:at+listHeader]...)
		at += listHeader
		if end > len(b) {
			return form, errForm
		}
		for at < end {
			if end-at < 8 {
				return form, errForm
			}
			stop := at + int(binary.LittleEndian.Uint16(b[at+2:]))
			from := at
			at += 8
			if rule.Kind(b[from]).HasObject() && end-at >= 4 {
				at += 4 + 16*int(b[at]&1+b[at]>>1&1)
			}
			if stop > end || at > stop {
				return form, errForm
			}
			form = append(form, b[from:at]...)
			if err := sid(stop); err != nil {
				return form, err
			}
			form = append(form, b[at:stop]...)
			at = stop
		}
	}
	if at != len(b) {
		return form, errForm
	}
	return form, nil
}
