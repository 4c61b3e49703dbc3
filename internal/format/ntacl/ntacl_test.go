package ntacl

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"testing"

	"github.com/stretchr/testify/require"

	"tarnwold/core/account"
	"tarnwold/core/posix"
	"tarnwold/core/rule"
)

// A live server wrote these: a folder with mode 0777 and no lists whose
// descriptor has one entry, and a file with a list whose rules are absent.
const (
	ofFolder = "0400040000000200040002000100e26df51d0d53a5d29f7a842672f8ea9393e82c112ec5394fb330a74802bed5230000000000000000000000000000000000000000000000000000000000000000" +
		"706f7369785f61636c00b40aacb55f7ddd01b73294a64526a3dccbe77b0c58eefaf06acf768052a6c172e073a698bbb78345" +
		"000000000000000000000000000000000000000000000000000000000000000001000480b4000000d000000000000000e000000001050000000000051500000023c01a3942970548b5ad10fceb0300000102000000000016020000000000000002001c000100000000061400a0001200010100000000000301000000"
	ofFile = "0400040000000200040002000100935160d6b2d74a93abef856830fc990d1111694adc70107feb42734cdbf9d7ff0000000000000000000000000000000000000000000000000000000000000000" +
		"706f7369785f61636c00ca7bacb55f7ddd0135e63f437d3b52b0091a56be87cd2f6cea76bfd0e98755019f74aaa4d067db4d" +
		"000000000000000000000000000000000000000000000000000000000000000001000480b4000000d0000000000000000000000001050000000000051500000023c01a3942970548b5ad10fcea03000001020000000000160200000000000000"
)

func unhex(t testing.TB, s string) []byte {
	b, err := hex.DecodeString(s)
	require.NoError(t, err)
	return b
}

func folder() *posix.Rules {
	return &posix.Rules{Folder: true, Owner: account.UID(4004), Group: account.GID(0), Access: posix.Of(0o777)}
}

func file() *posix.Rules {
	return &posix.Rules{Owner: account.UID(4003), Group: account.GID(0), Access: posix.List{{Tag: posix.UserObj, Perm: 7}, {Tag: posix.User, Who: account.UID(4003), Perm: 7},
		{Tag: posix.GroupObj, Perm: 7}, {Tag: posix.Group, Who: account.GID(0), Perm: 7}, {Tag: posix.Mask, Perm: 7}, {Tag: posix.Other, Perm: 7}}}
}

func TestWhatAServerKept(t *testing.T) {
	d, err := Read(unhex(t, ofFolder), folder())
	require.NoError(t, err)
	require.Equal(t, "S-1-5-21-958054435-1208325954-4228951477-1003", d.Owner.String())
	require.Equal(t, []rule.Entry{{Kind: rule.Allow, Flags: 6, Rights: 0x1200a0, Who: account.CreatorGroup}}, d.Rules.Entries)
	d, err = Read(unhex(t, ofFile), file())
	require.NoError(t, err)
	require.True(t, d.Rules.Absent)
}

func TestOtherListsThanThen(t *testing.T) {
	for _, change := range []func(r *posix.Rules){
		func(r *posix.Rules) { r.Owner = account.UID(1) }, func(r *posix.Rules) { r.Group = account.GID(1) },
		func(r *posix.Rules) { r.Special = posix.Sticky }, func(r *posix.Rules) { r.Access = posix.Of(0o770) },
		func(r *posix.Rules) { r.Default = posix.Of(0o777) },
	} {
		r := folder()
		change(r)
		_, err := Read(unhex(t, ofFolder), r)
		require.ErrorIs(t, err, ErrOther)
	}
}

func TestWhatIsntKnown(t *testing.T) {
	good := unhex(t, ofFolder)
	for at, why := range map[int]string{0: "version", 2: "version", 4: "version", 12: "kind", 0x4e: "end"} {
		b := bytes.Clone(good)
		switch at {
		case 4:
			binary.LittleEndian.PutUint32(b[4:], 0)
		case 0x4e:
			for i := at; i < len(b); i++ {
				b[i] = 'x'
			}
		default:
			b[at] = 9
		}
		_, err := Read(b, folder())
		require.ErrorContains(t, err, why)
	}
	for n := range good {
		_, err := Read(good[:n], folder())
		require.Error(t, err)
	}
	b := bytes.Clone(good)
	b[0xa4] = 1 // the owner before the descriptor
	_, err := Read(b, folder())
	require.ErrorContains(t, err, "begins before itself")
}

func FuzzRead(f *testing.F) {
	f.Add(unhex(f, ofFolder), true)
	f.Add(unhex(f, ofFile), false)
	f.Fuzz(func(t *testing.T, b []byte, isFolder bool) {
		r := file()
		if isFolder {
			r = folder()
		}
		if d, err := Read(b, r); err == nil {
			require.NotPanics(t, func() { d.Steps(rule.Reading{Owner: true}) })
		}
	})
}
