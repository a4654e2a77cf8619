package store_test

import (
	"math/rand/v2"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dravin/core/prefix"
)

// table loads prefixes and parties into a table of PostgreSQL's own type.
func table(t testing.TB, name string, ps []netip.Prefix, parties []uint32) *sqlx.DB {
	db, err := sqlx.Open("pgx", pg.URL)
	require.NoError(t, err)
	t.Cleanup(func() { db.MustExec("drop table " + name); db.Close() })
	db.MustExec("create table " + name + " (n int, party int, p inet)")
	const share = 50_000
	for from := 0; from < len(ps); from += share {
		var ns, owners []int
		var texts []string
		for n := from; n < min(from+share, len(ps)); n++ {
			ns, owners, texts = append(ns, n), append(owners, int(parties[n])), append(texts, ps[n].String())
		}
		db.MustExec("insert into "+name+" select * from unnest($1::int[], $2::int[], $3::inet[])", ns, owners, texts)
	}
	return db
}

// What PostgreSQL's inet operators say, on random sets of both families.
func TestPrefixesAgreeWithTheDatabase(t *testing.T) {
	seed := rand.Uint64()
	r := rand.New(rand.NewPCG(seed, 0))
	six := netip.MustParseAddr("2001:db8::").As16()
	for round := range 5 {
		var ps []netip.Prefix
		var parties []uint32
		for range 400 {
			a, bits := netip.AddrFrom4(
				[4]byte{10, byte(r.IntN(2)), byte(r.IntN(256)), byte(r.IntN(256))},
			), 10+r.IntN(23)
			if r.IntN(2) == 0 {
				six[13], six[14], six[15] = byte(r.IntN(2)), byte(r.IntN(256)), byte(r.IntN(256))
				a, bits = netip.AddrFrom16(six), 106+r.IntN(23)
			}
			ps, parties = append(ps, netip.PrefixFrom(a, bits).Masked()), append(parties, uint32(r.IntN(20)))
		}
		name := "agree" + strconv.Itoa(round)
		db := table(t, name, ps, parties)
		var all, different uint64
		require.NoError(t, db.Get(&all, "select count(*) from "+name+" a join "+name+" b on a.n < b.n and a.p && b.p"))
		require.NoError(
			t,
			db.Get(
				&different,
				"select count(*) from "+name+" a join "+name+" b on a.n < b.n and a.p && b.p and a.party <> b.party",
			),
		)
		assert.Equal(t, all, prefix.Count(ps, nil), "seed %d", seed)
		assert.Equal(t, different, prefix.Count(ps, parties), "seed %d", seed)

		x := prefix.NewIndex(ps)
		for range 20 {
			p := ps[r.IntN(len(ps))]
			var inside, containing []int
			require.NoError(t, db.Select(&inside, "select n from "+name+" where p <<= $1::inet", p.String()))
			require.NoError(t, db.Select(&containing, "select n from "+name+" where p >>= $1::inet", p.String()))
			assert.ElementsMatch(t, inside, x.Inside(p), "seed %d", seed)
			assert.ElementsMatch(t, containing, x.Containing(p), "seed %d", seed)
		}
		for n, f := range prefix.Free(
			[]netip.Prefix{netip.MustParsePrefix("10.220.0.0/14"), netip.MustParsePrefix("2001:db8::/109")}, ps,
		) {
			if n == 20 {
				break
			}
			var taken int
			require.NoError(t, db.Get(&taken, "select count(*) from "+name+" where p && $1::inet", f.String()))
			assert.Zero(t, taken, "%s is free; seed %d", f, seed)
		}
	}
}

// The whole command from a CSV file on disk to the count, on one core, beside
// PostgreSQL's index join on the same rows (index build included). Set ROWS for
// another number than 200,000; the database needs minutes for a million.
func BenchmarkCommandBesideDatabase(b *testing.B) {
	rows := 200_000
	if text := os.Getenv("ROWS"); text != "" {
		var err error
		rows, err = strconv.Atoi(text)
		require.NoError(b, err)
	}
	r := rand.New(rand.NewPCG(1, 2))
	var ps []netip.Prefix
	var parties []uint32
	var csv strings.Builder
	csv.WriteString("party,prefix\n")
	for range rows {
		v := r.Uint32()
		p := netip.PrefixFrom(
			netip.AddrFrom4([4]byte{byte(v >> 24), byte(v >> 16), byte(v >> 8), byte(v)}), 20+r.IntN(9),
		).Masked()
		party := uint32(r.IntN(500))
		ps, parties = append(ps, p), append(parties, party)
		csv.WriteString("site " + strconv.Itoa(int(party)) + "," + p.String() + "\n")
	}
	dir := b.TempDir()
	file, binary := filepath.Join(dir, "rows.csv"), filepath.Join(dir, "dravin")
	require.NoError(b, os.WriteFile(file, []byte(csv.String()), 0o644))
	out, err := exec.Command("go", "build", "-o", binary, "dravin/cmd/dravin").CombinedOutput()
	require.NoError(b, err, string(out))
	var ours time.Duration
	var count string
	for b.Loop() {
		cmd := exec.Command("taskset", "-c", "0", binary, "overlaps", "--count", file)
		cmd.Env = append(os.Environ(), "GOMAXPROCS=1")
		start := time.Now()
		out, err := cmd.Output()
		require.NoError(b, err)
		ours, count = time.Since(start), strings.TrimSpace(string(out))
	}
	db := table(b, "beside", ps, parties)
	start := time.Now()
	db.MustExec("create index on beside using gist (p inet_ops)")
	db.MustExec("analyze beside")
	var theirs string
	require.NoError(
		b,
		db.Get(
			&theirs, "select count(*) from beside a join beside b on a.p && b.p and a.n < b.n and a.party <> b.party",
		),
	)
	took := time.Since(start)
	require.Equal(b, theirs, count)
	b.ReportMetric(ours.Seconds()*1e6/float64(rows), "s/Mrow")
	b.ReportMetric(took.Seconds(), "s-database")
	b.ReportMetric(took.Seconds()/ours.Seconds(), "x-faster")
}
