package enrol

import (
	"bytes"
	"context"
	"encoding/pem"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"wideknot/internal/server/store"
	"wideknot/packaging"
)

// programPath is where new machines get the program, on the port where certificates are
// signed: the very binary that this server is, over TLS that the authority vouches for.
const programPath = "/gateway/wideknot"

// downloadsAtOnce bounds who gets it at one time.
const downloadsAtOnce = 4

// A cloudFile is one of cloud-init's write_files.
type cloudFile struct {
	Path        string `yaml:"path"`
	Permissions string `yaml:"permissions"`
	Content     string `yaml:"content"`
}

// CloudInit writes user-data for cloud-init that makes a new machine the gateway of a site:
// it gets the program from this server, joins by a code, and calls.
func (o *Office) CloudInit(estate, site, code string) ([]byte, error) {
	authority := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: o.Authority.Certificate.Raw})
	files := []cloudFile{
		{"/etc/wideknot/authority.pem", "0600", string(authority)},
		{"/etc/wideknot/join-code", "0600", code + "\n"},
	}
	var units []string
	err := fs.WalkDir(packaging.Units, ".", func(name string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		text, err := packaging.Units.ReadFile(name)
		files = append(files, cloudFile{"/etc/systemd/system/" + path.Base(name), "0644", string(text)})
		units = append(units, path.Base(name))
		return err
	})
	if err != nil {
		return nil, err
	}
	run := [][]string{
		{"install", "-d", "-m", "0700", "/etc/wideknot", "/var/lib/wideknot-gateway"},
		{"sh", "-c", fmt.Sprintf("for s in %s; do curl -fsS --retry 20 --retry-delay 3 --retry-all-errors --cacert /etc/wideknot/authority.pem -o /usr/bin/wideknot.new https://$s%s && break; done", strings.Join(o.Enrol, " "), programPath)},
		{"install", "-m", "0755", "/usr/bin/wideknot.new", "/usr/bin/wideknot"},
		{"rm", "-f", "/usr/bin/wideknot.new"},
		{"wideknot", "gateway", "join", "--file", "/etc/wideknot/join-code"},
		{"rm", "-f", "/etc/wideknot/join-code"},
		{"systemctl", "daemon-reload"},
		append([]string{"systemctl", "enable", "--now"}, units...),
	}
	var out bytes.Buffer
	fmt.Fprintf(&out, "#cloud-config\n# Makes this machine the gateway of %s in %s. It holds a join code: whoever reads it can join in its place.\n", site, estate)
	encoder := yaml.NewEncoder(&out)
	encoder.SetIndent(2)
	err = encoder.Encode(struct {
		Packages []string    `yaml:"packages"`
		Files    []cloudFile `yaml:"write_files"`
		Run      [][]string  `yaml:"runcmd"`
	}{[]string{"curl", "iproute2", "nftables"}, files, run})
	return out.Bytes(), err
}

// ForMachine makes a join code for a site of an estate, and user-data with it.
func (o *Office) ForMachine(ctx context.Context, estate, site string, lasts time.Duration) ([]byte, error) {
	var row store.Estate
	err := o.Store.Snapshot(ctx, func(tx *store.Tx) (err error) {
		row, err = tx.Estate(estate, false)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("estate %q: %w", estate, err)
	}
	code, _, err := o.Code(ctx, row, site, lasts)
	if err != nil {
		return nil, err
	}
	return o.CloudInit(estate, site, code)
}

// program sends the program that this server is.
func program(turns chan struct{}) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		select {
		case turns <- struct{}{}:
			defer func() { <-turns }()
		default:
			w.Header().Set("Retry-After", "5")
			http.Error(w, "others are getting it; come again", http.StatusServiceUnavailable)
			return
		}
		name, err := os.Executable()
		if err != nil {
			http.Error(w, "the program is not to be found", http.StatusNotFound)
			return
		}
		file, err := os.Open(name)
		if err != nil {
			http.Error(w, "the program is not to be found", http.StatusNotFound)
			return
		}
		defer file.Close()
		_ = http.NewResponseController(w).SetWriteDeadline(noDeadline)
		w.Header().Set("Content-Type", "application/octet-stream")
		if r.Method != http.MethodHead {
			_, _ = io.Copy(w, file) // who went away is told nothing
		}
	}
}
