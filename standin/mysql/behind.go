package mysql

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"syscall"
	"time"

	"github.com/dolthub/vitess/go/mysql"
)

// behind is the MariaDB that keeps everything.
type behind struct {
	port   int
	secret string // of behindAdmin
	cmd    *exec.Cmd
	ended  chan struct{}
}

// behindAdmin is its administrator, whom the views hide.
const behindAdmin = "face"

// startTime is how long it may take to start.
const startTime = 90 * time.Second

// startBehind starts Debian's MariaDB on a free port of loopback, installing its data first
// when there is none. It ends with this process.
func startBehind(dir string) (*behind, error) {
	runtime.LockOSThread() // the signal at this process's death goes by the thread that has started it
	var asRoot []string
	if os.Getuid() == 0 {
		asRoot = []string{"--user=root"}
	}
	data, tmp := filepath.Join(dir, "behind"), filepath.Join(dir, "tmp")
	if err := os.MkdirAll(tmp, 0o700); err != nil {
		return nil, err
	}
	if _, err := os.Stat(data); err != nil {
		install := exec.Command("mariadb-install-db", append(append([]string{"--no-defaults"}, asRoot...),
			"--datadir="+data, "--tmpdir="+tmp, "--force", "--auth-root-authentication-method=socket", "--skip-test-db",
			"--skip-name-resolve")...)
		if out, err := install.CombinedOutput(); err != nil {
			os.RemoveAll(data)
			return nil, fmt.Errorf("mariadb-install-db: %w\n%s", err, out)
		}
	}
	b := &behind{secret: secret(), ended: make(chan struct{})}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	b.port = l.Addr().(*net.TCPAddr).Port
	l.Close()
	init := filepath.Join(dir, "behind.sql")
	who := "'" + behindAdmin + "'@'127.0.0.1'"
	if err := os.WriteFile(init, []byte("CREATE USER IF NOT EXISTS "+who+";\nALTER USER "+who+
		" IDENTIFIED VIA mysql_native_password USING '"+nativeHash(b.secret)+"';\nGRANT ALL PRIVILEGES ON *.* TO "+who+
		" WITH GRANT OPTION;\n"), 0o600); err != nil {
		return nil, err
	}
	defer os.Remove(init)
	b.cmd = exec.Command("mariadbd", append(append([]string{"--no-defaults"}, asRoot...), "--datadir="+data,
		"--socket="+filepath.Join(os.TempDir(), "standin-"+strconv.Itoa(b.port)+".sock"),
		"--pid-file="+filepath.Join(dir, "behind.pid"), "--tmpdir="+tmp, "--bind-address=127.0.0.1",
		"--port="+strconv.Itoa(b.port), "--log-error="+filepath.Join(dir, "behind.log"), "--init-file="+init,
		"--skip-name-resolve", "--innodb-buffer-pool-size=64M", "--innodb-log-file-size=32M",
		"--innodb-flush-log-at-trx-commit=0", "--innodb-doublewrite=0", "--event-scheduler=ON", "--max-connections=400",
		"--character-set-server=utf8mb4",
		"--sql-mode=ONLY_FULL_GROUP_BY,STRICT_TRANS_TABLES,NO_ZERO_IN_DATE,NO_ZERO_DATE,ERROR_FOR_DIVISION_BY_ZERO,"+
			"NO_ENGINE_SUBSTITUTION", "--collation-server=utf8mb4_uca1400_ai_ci", "--performance-schema=ON",
		"--performance-schema-instrument=wait/lock/metadata/sql/mdl=ON",
		"--performance-schema-instrument=transaction=ON",
		"--performance-schema-consumer-events-statements-current=ON",
		"--performance-schema-consumer-events-transactions-current=ON")...)
	b.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	if err := b.cmd.Start(); err != nil {
		return nil, err
	}
	go func() {
		_ = b.cmd.Wait()
		close(b.ended)
	}()
	return b, b.answer()
}

// answer waits until it takes its administrator.
func (b *behind) answer() error {
	deadline := time.Now().Add(startTime)
	for {
		c, err := mysql.Connect(context.Background(), &mysql.ConnParams{Host: "127.0.0.1", Port: b.port,
			Uname: behindAdmin, Pass: b.secret, Charset: "utf8mb4", SslMode: "disabled"})
		if err == nil {
			c.Close()
			return nil
		}
		select {
		case <-b.ended:
			return fmt.Errorf("the MariaDB behind has ended while it started: %w", err)
		case <-time.After(25 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			b.stop()
			return fmt.Errorf("the MariaDB behind does not answer: %w", err)
		}
	}
}

func (b *behind) stop() {
	_ = b.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-b.ended:
	case <-time.After(20 * time.Second):
		_ = b.cmd.Process.Kill()
		<-b.ended
	}
}
