package e2e

import (
	"bytes"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jlaffaye/ftp"
	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/pkg/sftp"
	"github.com/studio-b12/gowebdav"
	"golang.org/x/crypto/ssh"

	"ydrion/service"
	"ydrion/standin"
	"ydrion/testbed"
	"ydrion/workspace"
)

// plain is the plainest program that works with a server of a kind.
type plain struct {
	put    func(name string, content io.Reader, size int64) error
	names  func() ([]string, error)
	get    func(name string, to io.Writer) error
	remove func(name string) error
	close  func()
}

// folder is where it works.
const plainFolder = "plain"

func plainOf(b *testing.B, holm *partner) *plain {
	b.Helper()
	must := func(err error) {
		b.Helper()
		if err != nil {
			b.Fatal(err)
		}
	}
	base := path.Join("/", holm.place.Address.Path, plainFolder)
	at := func(name string) string { return path.Join(base, name) }
	open := &tls.Config{InsecureSkipVerify: true}
	switch holm.place.Kind {
	case "sftp":
		over, err := ssh.Dial("tcp", holm.place.Address.Host, &ssh.ClientConfig{User: "ydrion", Auth: []ssh.AuthMethod{ssh.Password("salt and ice")}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
		must(err)
		c, err := sftp.NewClient(over, sftp.UseConcurrentWrites(true))
		must(err)
		return &plain{put: func(name string, content io.Reader, size int64) error {
			f, err := c.Create(at(name) + ".part")
			if err != nil {
				return err
			}
			if _, err := f.ReadFrom(content); err != nil {
				return err
			}
			return errors.Join(f.Close(), c.Rename(at(name)+".part", at(name)))
		}, names: func() (out []string, err error) {
			all, err := c.ReadDir(base)
			for _, i := range all {
				out = append(out, i.Name())
			}
			return out, err
		}, get: func(name string, to io.Writer) error {
			f, err := c.Open(at(name))
			if err != nil {
				return err
			}
			_, err = io.Copy(to, f)
			return errors.Join(err, f.Close())
		}, remove: func(name string) error { return c.Remove(at(name)) }, close: func() { c.Close() }}
	case "ftp":
		open.ClientSessionCache = tls.NewLRUClientSessionCache(2)
		c, err := ftp.Dial(holm.place.Address.Host, ftp.DialWithExplicitTLS(open))
		must(err)
		must(c.Login("ydrion", "salt and ice"))
		return &plain{put: func(name string, content io.Reader, size int64) error {
			return errors.Join(c.Stor(at(name)+".part", content), c.Rename(at(name)+".part", at(name)))
		}, names: func() (out []string, err error) {
			all, err := c.List(base)
			for _, i := range all {
				out = append(out, i.Name)
			}
			return out, err
		}, get: func(name string, to io.Writer) error {
			f, err := c.Retr(at(name))
			if err != nil {
				return err
			}
			_, err = io.Copy(to, f)
			return errors.Join(err, f.Close())
		}, remove: func(name string) error { return c.Delete(at(name)) }, close: func() { c.Quit() }} //nolint: it is over
	case "webdav":
		c := gowebdav.NewClient(holm.place.Address.String(), "ydrion", "salt and ice")
		c.SetTransport(&http.Transport{TLSClientConfig: open})
		return &plain{put: func(name string, content io.Reader, size int64) error {
			return errors.Join(c.WriteStreamWithLength(at(name)+".part", content, size, 0o644), c.Rename(at(name)+".part", at(name), false))
		}, names: func() (out []string, err error) {
			all, err := c.ReadDir(base)
			for _, i := range all {
				out = append(out, i.Name())
			}
			return out, err
		}, get: func(name string, to io.Writer) error {
			f, err := c.ReadStream(at(name))
			if err != nil {
				return err
			}
			_, err = io.Copy(to, f)
			return errors.Join(err, f.Close())
		}, remove: func(name string) error { return c.Remove(at(name)) }, close: func() {}}
	}
	c, err := minio.New(holm.place.Address.Host, &minio.Options{Creds: credentials.NewStaticV4("ydrion", "salt and ice", ""), Secure: true, Transport: &http.Transport{TLSClientConfig: open}})
	must(err)
	ctx := context.Background()
	key := func(name string) string { return path.Join(plainFolder, name) }
	return &plain{put: func(name string, content io.Reader, size int64) error {
		_, err := c.PutObject(ctx, "seals", key(name), content, size, minio.PutObjectOptions{})
		return err
	}, names: func() (out []string, err error) {
		for o := range c.ListObjects(ctx, "seals", minio.ListObjectsOptions{Prefix: plainFolder + "/"}) {
			out, err = append(out, path.Base(o.Key)), errors.Join(err, o.Err)
		}
		return out, err
	}, get: func(name string, to io.Writer) error {
		o, err := c.GetObject(ctx, "seals", key(name), minio.GetObjectOptions{})
		if err != nil {
			return err
		}
		_, err = io.Copy(to, o)
		return errors.Join(err, o.Close())
	}, remove: func(name string) error {
		return c.RemoveObject(ctx, "seals", key(name), minio.RemoveObjectOptions{})
	}, close: func() {}}
}

// BenchmarkServers checks what the service does with servers against the plainest program that does the same with the same library:
// 1,000 files of 2 kB, and one of 256 MB, there, from there (while what has come goes through its route), and from there alone. The server for SFTP is OpenSSH's where it is installed, the others are stand-ins.
func BenchmarkServers(b *testing.B) {
	for _, kind := range []string{"sftp", "ftp", "webdav", "s3"} {
		for _, size := range []struct {
			name  string
			files int
			bytes int
		}{{"small", 1000, 2000}, {"large", 1, 256 << 20}} {
			content := bytes.Repeat([]byte("0123456789abcde\n"), size.bytes/16+1)[:size.bytes]
			b.Run(kind+"-"+size.name, func(b *testing.B) {
				for b.Loop() {
					holm := benchPartner(b, kind)
					must := func(err error) {
						b.Helper()
						if err != nil {
							b.Fatal(err)
						}
					}
					if holm.objects == nil {
						for _, f := range []string{"in", "out", plainFolder} {
							must(os.MkdirAll(filepath.Join(holm.folder, f), 0o755))
						}
					}
					p := plainOf(b, holm)
					file := filepath.Join(b.TempDir(), "file")
					must(os.WriteFile(file, content, 0o600))
					begun := time.Now()
					for i := range size.files {
						f, err := os.Open(file)
						must(err)
						must(p.put(fmt.Sprintf("f%d", i), f, int64(len(content))))
						f.Close() //nolint: it was read
					}
					there := time.Since(begun)
					to := b.TempDir()
					begun = time.Now()
					all, err := p.names()
					must(err)
					for _, name := range all {
						out, err := os.Create(filepath.Join(to, "part"))
						must(err)
						must(p.get(name, out))
						must(out.Close())
						must(os.Rename(filepath.Join(to, "part"), filepath.Join(to, name)))
						must(p.remove(name))
					}
					from := time.Since(begun)
					if len(all) != size.files {
						b.Fatalf("%d files came", len(all))
					}
					p.close()
					serviceThere, serviceFrom, serviceAlone := benchService(b, holm, size.files, content)
					b.ReportMetric(there.Seconds()/serviceThere.Seconds(), "there/plain")
					b.ReportMetric(from.Seconds()/serviceFrom.Seconds(), "from/plain")
					b.ReportMetric(from.Seconds()/serviceAlone.Seconds(), "alone/plain")
					b.ReportMetric(there.Seconds(), "plain-there-s")
					b.ReportMetric(from.Seconds(), "plain-from-s")
				}
			})
		}
	}
}

func benchPartner(b *testing.B, kind string) *partner {
	b.Helper()
	if kind != "sftp" {
		p := partnerOf(b, kind)
		p.place.Patience = 30 * time.Second
		return p
	}
	folder := b.TempDir()
	s, err := standin.NewSFTP("127.0.0.1:0", folder, "holm", standin.Login{User: "ydrion", Password: "salt and ice"})
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(s.Close)
	word := filepath.Join(b.TempDir(), "word")
	if err := os.WriteFile(word, []byte("salt and ice\n"), 0o600); err != nil {
		b.Fatal(err)
	}
	p := &partner{Manners: s.Manners, folder: folder, close: s.Close}
	p.place = workspace.Place{Name: "holm", Kind: "sftp", Address: &url.URL{Scheme: "sftp", Host: s.Address()}, User: "ydrion", Password: workspace.Secret{File: word}, HostKeys: []string{s.HostKey}, Connections: 2, Patience: 30 * time.Second}
	if _, err := os.Stat("/usr/lib/openssh/sftp-server"); err == nil {
		s.Program, p.place.Address.Path = "/usr/lib/openssh/sftp-server", folder
	}
	return p
}

// benchService is how long the service takes: from committing outputs until all have arrived; and from finding files on the server until
// all are taken from there, while they go through their route, and while nothing of that route goes on.
func benchService(b *testing.B, holm *partner, files int, content []byte) (there, from, alone time.Duration) {
	fsys := &reluctant{}
	bed := testbed.Start(b, holm.at(), testbed.On(fsys))
	var record strings.Builder
	record.WriteString("id,text\n")
	publish := map[string]string{
		"routes/there.yaml": "route: there\nlisten: {folder: \"{stations}/bench\", names: \"*\"}\nread: {format: file}\ndeliver: {place: holm/in, name: \"{file.name}\"}\nrejected: {folder: \"{stations}/rejected\"}\n",
	}
	for name, order := range map[string]string{"from": "", "alone": "order: {lane: \"all\", failure: holds}\n"} {
		publish["routes/"+name+".yaml"] = "route: " + name + "\nlisten: {place: holm/" + name + ", names: \"*\", quiet: 1ms, rhythm: 200ms}\n" + order + "read: {format: file}\ndeliver: {folder: \"{laboratory}/" + name + "\", name: \"{file.name}\"}\nrejected: {folder: \"{stations}/rejected\"}\n"
	}
	if files > 1 {
		for i := range files {
			fmt.Fprintf(&record, "%d,%s\n", i, strings.ReplaceAll(string(content), "\n", "x"))
		}
		publish["routes/there.yaml"] = "route: there\nlisten: {folder: \"{stations}/bench\", names: \"*\"}\nread: {format: csv}\ncheck: {schema: schemas/bench.json}\nmap: maps/bench.map\ndeliver: {place: holm/in, name: \"{id}.csv\", one file per: record}\nrejected: {folder: \"{stations}/rejected\"}\n"
		publish["schemas/bench.json"] = `{"fields": [{"name": "id"}, {"name": "text"}]}`
		publish["maps/bench.map"] = "map bench\nsource csv schemas/bench.json\ntarget csv based on samples/bench.csv\n\ntext = text\n"
		publish["samples/bench.csv"] = "text\n"
		content = []byte(record.String())
	}
	bed.Publish(publish)
	bed.Drop("stations/bench", "bench", string(content))
	p := bed.Ended("bench", 0)
	detail, err := bed.Client.Pickup(context.Background(), p.ID)
	if err != nil {
		b.Fatal(err)
	}
	var arrived time.Time
	bed.Ask(&arrived, `select max(published_at) from deliveries where run = $1`, detail.Runs[0].ID)
	there = arrived.Sub(*detail.Runs[0].CommittedAt)
	one := []byte(strings.Repeat("0123456789abcde\n", 125))
	if files == 1 {
		one = content
	}
	fetched := func(route string) time.Duration {
		if _, err := bed.Client.SetRunning(context.Background(), route, false); err != nil {
			b.Fatal(err)
		}
		for i := range files {
			holm.drop(b, fmt.Sprintf("%s/f%d", route, i), string(one))
		}
		if _, err := bed.Client.SetRunning(context.Background(), route, true); err != nil {
			b.Fatal(err)
		}
		var first, last time.Time
		testbed.Until(b, "all are fetched", func() bool {
			n := 0
			time.Sleep(300 * time.Millisecond) // asking takes time from what is measured
			bed.Ask(&n, `select count(*) from fetches where route = $1 and state = 'done' and path like '%/f%'`, route)
			return n == files
		})
		bed.Ask(&first, `select min(claimed_at) from fetches where route = $1 and path like '%/f%'`, route)
		bed.Ask(&last, `select max(ended_at) from fetches where route = $1 and path like '%/f%'`, route)
		return last.Sub(first)
	}
	from = fetched("from")
	testbed.Until(b, "all have gone through", func() bool {
		n := 0
		bed.Ask(&n, `select count(*) from pickups where route = 'from' and ended_at is not null`)
		return n == files
	})
	fsys.set("held")
	holm.drop(b, "alone/held", "a")
	testbed.Until(b, "the lane is held", func() bool {
		p, err := bed.Client.Lanes(context.Background(), "")
		return err == nil && len(p) == 1
	})
	return there, from, fetched("alone")
}

// BenchmarkMLLP measures messages that are acknowledged when they are stored, and when what became of them is committed, on a database
// that makes commits durable: how many a second, and how long one in a hundred takes.
func BenchmarkMLLP(b *testing.B) {
	for _, answer := range []string{"stored", "committed"} {
		for _, connections := range []int{1, 20} {
			b.Run(fmt.Sprintf("%s-%d", answer, connections), func(b *testing.B) {
				with, address := receiving(b)
				data, err := os.MkdirTemp("", "mllp-")
				if err == nil {
					err = os.Chmod(data, 0o755) // the database's account passes through it
				}
				if err != nil {
					b.Fatal(err)
				}
				defer os.RemoveAll(data)
				bed := testbed.Start(b, testbed.Private(data), testbed.With(func(c *service.Config) { c.Throwaway = false }), with)
				bed.Publish(results(answer))
				each := 2000 / connections
				took := make([]time.Duration, connections*each)
				for round := 0; b.Loop(); round++ {
					begun := time.Now()
					var all sync.WaitGroup
					for k := range connections {
						s := dialSender(b, address)
						all.Go(func() {
							defer s.Close() //nolint: all has been said
							for i := range each {
								at := time.Now()
								if _, err := io.WriteString(s, frame(oru(fmt.Sprintf("M%d-%d-%d", round, k, i), "T-1"))); err != nil {
									b.Error(err)
									return
								}
								if ack, err := s.in.ReadString(0x1C); err != nil || !strings.Contains(ack, "|AA|") {
									b.Errorf("%q %v", ack, err)
									return
								}
								took[k*each+i] = time.Since(at)
							}
						})
					}
					all.Wait()
					slices.Sort(took)
					b.ReportMetric(float64(len(took))/time.Since(begun).Seconds(), "messages/s")
					b.ReportMetric(float64(took[len(took)*99/100].Microseconds())/1000, "p99-ms")
				}
			})
		}
	}
}
