package tsql

import (
	"math/rand/v2"
	"testing"
)

// TestNoise: whatever comes, Parse answers with statements or an [Error].
func TestNoise(t *testing.T) {
	seeds := []string{
		"CREATE DATABASE [a] ON PRIMARY (NAME = N'x', FILENAME = N'/x', SIZE = 1MB, MAXSIZE = UNLIMITED, FILEGROWTH " +
			"= 10%) LOG ON (NAME = b, FILENAME = 'y') COLLATE c WITH TRUSTWORTHY ON",
		"ALTER DATABASE [a] SET SINGLE_USER WITH ROLLBACK AFTER 5 SECONDS; ALTER DATABASE b MODIFY NAME = c",
		"CREATE LOGIN x WITH PASSWORD = 0x0200AA HASHED, SID = 0x01, CHECK_POLICY = OFF; DROP LOGIN IF EXISTS x",
		"GRANT SELECT (a, b), UPDATE ON OBJECT::dbo.t TO [u], public WITH GRANT OPTION AS r; REVOKE GRANT OPTION FOR " +
			"SELECT FROM x CASCADE",
		"WITH c (a) AS (SELECT 1) SELECT TOP (3) DISTINCT a.*, CASE WHEN x IN (1, 2) THEN 'q' ELSE NULL END AS z " +
			"FROM c a LEFT JOIN (SELECT 1) b (x) ON a.a = b.x OUTER APPLY f(a.a, DEFAULT) g WHERE NOT EXISTS (SELECT " +
			"1) GROUP BY a.a HAVING COUNT(*) > 1 UNION ALL SELECT 2 ORDER BY 1 DESC OFFSET 1 ROWS FETCH NEXT 2 ROWS " +
			"ONLY OPTION (RECOMPILE)",
		"DECLARE @a int = 1, @b nvarchar(max); IF @a = 1 BEGIN SET @a += 2; PRINT N'x' END ELSE EXEC sys.sp_x @p = " +
			"1, @q = N'y' OUTPUT; BEGIN TRY THROW 50001, N'x', 1 END TRY BEGIN CATCH THROW END CATCH; KILL 5 WITH " +
			"STATUSONLY",
	}
	r := rand.New(rand.NewPCG(1, 2))
	for n := range 60000 {
		b := []byte(seeds[n%len(seeds)])
		for range 1 + r.IntN(4) {
			switch k := r.IntN(len(b)); r.IntN(3) {
			case 0:
				b[k] = byte(r.IntN(256))
			case 1:
				b = append(b[:k], b[min(len(b)-1, k+1+r.IntN(8)):]...)
			default:
				o := []byte(seeds[r.IntN(len(seeds))])
				j := r.IntN(len(o))
				b = append(append(append([]byte{}, b[:k]...), o[j:min(len(o), j+12)]...), b[k:]...)
			}
		}
		if _, err := Parse(string(b)); err != nil {
			if _, ok := err.(*Error); !ok {
				t.Fatalf("%q: %v", b, err)
			}
		}
	}
}
