package main

import (
	"fmt"
	"io"
	"net"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"time"
)

// server runs a server until it is ended, and waits until it listens.
func server(address string, args ...string) (end func()) {
	cmd := exec.Command(args[0], args[1:]...)
	check(cmd.Start())
	for range 500 {
		if c, err := net.Dial("tcp", address); err == nil {
			c.Close()
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	return func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }
}

func free() string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	check(err)
	check(l.Close())
	return l.Addr().String()
}

const bucketKey, bucketSecret = "golden-key", "golden-secret-0123456789"

// servers starts a registry, an S3 store and the simulated cloud, all in a folder.
func servers(temp string) (registry, bucket string, end func()) {
	registry, bucket = free(), free()
	settings := filepath.Join(temp, "registry.yml")
	check(os.WriteFile(settings, fmt.Appendf(nil, "version: 0.1\nlog: {level: error}\nstorage:\n  filesystem: {rootdirectory: %s}\n"+
		"  delete: {enabled: true}\nhttp:\n  addr: %s\n", filepath.Join(temp, "stored"), registry), 0o600))
	first := server(registry, "docker-registry", "serve", settings)
	gateway, err := filepath.Abs(".cache/versitygw")
	check(err)
	for _, name := range []string{"store/golden", "meta"} {
		check(os.MkdirAll(filepath.Join(temp, name), 0o755))
	}
	second := server(bucket, gateway, "--access", bucketKey, "--secret", bucketSecret, "--port", bucket, "--quiet",
		"posix", "--sidecar", filepath.Join(temp, "meta"), filepath.Join(temp, "store"))
	check(os.Setenv("GOLDEN", bucketKey+":"+bucketSecret))
	return registry, bucket, func() { first(); second() }
}

// places measures publications of 500 MB, and of 4 GiB to four regions.
func places(temp string) {
	ws := filepath.Join(temp, "places")
	run(temp, program, "new", ws)
	registry, bucket, end := servers(temp)
	defer end()
	sent := &counter{}
	through := httptest.NewServer(&httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(&url.URL{Scheme: "http", Host: registry})
		r.Out.Host = r.In.Host // it says where uploads go on
		if r.Out.Body != nil {
			r.Out.Body = &counted{r.Out.Body, sent}
		}
	}})
	defer through.Close()
	cloud := free()
	text := "\n[region.folder]\nkind = \"folder\"\npath = \"regions/folder\"\n" +
		"[region.golden]\nkind = \"registry\"\nurl = \"http://" + registry + "/golden\"\n" +
		"[region.counted]\nkind = \"registry\"\nurl = \"" + through.URL + "/counted\"\n" +
		"[region.bucket]\nkind = \"s3\"\nurl = \"http://" + bucket + "\"\nbucket = \"golden\"\ncredentials = \"env:GOLDEN\"\n" +
		"[region.cloud]\nkind = \"cloud\"\nurl = \"http://" + cloud + "\"\ncredentials = \"file:.zygos/standin/credentials\"\n"
	for i := range 10 {
		text += fmt.Sprintf("[region.r%d]\nkind = \"folder\"\npath = \"regions/r%d\"\n", i, i)
	}
	file := filepath.Join(ws, "zygos.toml")
	before, err := os.ReadFile(file)
	check(err)
	check(os.WriteFile(file, append(before, text...), 0o644))
	define := func(name, last, artifact string) {
		check(os.WriteFile(filepath.Join(ws, "images", name+".toml"), []byte("series = \"1.0\"\nbase = \"field-os\"\n"+
			"[[stage]]\nname = \"big\"\ninline = \"head -c 500000000 /dev/urandom > /big\"\n"+
			"[[stage]]\nname = \"last\"\ninline = \""+last+"\"\n[[artifact]]\n"+artifact), 0o644))
	}
	define("file", "echo 1 > /last", "format = \"tar\"\n")
	define("image", "echo 1 > /last", "format = \"oci\"\n")
	run(ws, program, "build", "--quiet", "file", "image")
	blob := func(image string) string {
		digest := strings.TrimSpace(string(run(ws, "sh", "-c", program+" list "+image+" --json | grep -o 'sha256:[0-9a-f]*' | tail -1")))
		return filepath.Join(ws, ".zygos/store/blobs/sha256", strings.TrimPrefix(digest, "sha256:"))
	}
	remove := func(image, region string) {
		if _, err := os.Stat(filepath.Join(ws, ".zygos/manifests", image)); err == nil {
			run(ws, program, "publish", image, "--remove", "--region", region)
		}
	}
	publish := func(image, region string) time.Duration {
		remove(image, region)
		run(ws, "sync")
		return timed(func() { run(ws, program, "publish", image, "--region", region, "--quiet") })
	}
	turns := func(what, budget string, ours, standard func() time.Duration) {
		var as, bs []time.Duration
		for range 3 {
			as, bs = append(as, ours()), append(bs, standard())
		}
		row(what, median(as), median(bs), budget)
	}
	out := filepath.Join(temp, "copy")
	toFolder := func() time.Duration { return publish("file", "folder") }
	turns("500 MB to a folder, against cp and sync", "1.25 x", toFolder, func() time.Duration {
		_ = os.Remove(out)
		run(ws, "sync")
		return timed(func() { run(ws, "sh", "-c", "cp "+blob("file")+" "+out+" && sync "+out) })
	})
	turns("  the same, and sha256sum of the copy", "", toFolder, func() time.Duration {
		_ = os.Remove(out)
		run(ws, "sync")
		return timed(func() { run(ws, "sh", "-c", "cp "+blob("file")+" "+out+" && sync "+out+" && sha256sum "+out) })
	})
	wipe := func() {
		for _, dir := range []string{"stored", "store/golden"} {
			run(temp, "sh", "-c", "rm -rf "+filepath.Join(temp, dir)+"/*")
		}
	}
	turns("500 MB to a registry, against skopeo copy", "1.0 x", func() time.Duration {
		defer wipe()
		return publish("image", "golden")
	}, func() time.Duration {
		defer wipe()
		return timed(func() {
			run(ws, "skopeo", "copy", "--quiet", "--preserve-digests", "--dest-tls-verify=false", "oci-archive:"+blob("image"),
				"docker://"+registry+"/other/image:1")
		})
	})
	turns("500 MB to S3, against s3cmd put", "1.0 x", func() time.Duration {
		defer wipe()
		return publish("file", "bucket")
	}, func() time.Duration {
		defer wipe()
		return timed(func() {
			run(ws, "s3cmd", "--access_key="+bucketKey, "--secret_key="+bucketSecret, "--no-ssl", "--host="+bucket, "--host-bucket="+bucket,
				"--quiet", "put", blob("file"), "s3://golden/x")
		})
	})
	remove("image", "golden")
	remove("file", "bucket")
	publish("image", "counted")
	whole := sent.Swap(0)
	define("image", "echo 2 > /last", "format = \"oci\"\n")
	run(ws, program, "build", "--quiet", "image")
	run(ws, program, "publish", "image", "--region", "counted", "--quiet")
	fmt.Printf("%-46s %9.2f%% %10s %7s  2 %%; %d of %d\n", "bytes to a registry for the next version",
		100*float64(sent.Load())/float64(whole), "-", "-", sent.Load(), whole)

	define("small", "true", "format = \"tar\"\n")
	names := []string{program, "publish", "file", "--quiet"}
	for i := range 10 {
		names = append(names, "--region", fmt.Sprint("r", i))
	}
	empty := func() {
		run(ws, append([]string{program, "publish", "file", "--remove", "--quiet"}, names[4:]...)...)
		run(ws, "sync")
	}
	run(ws, names...)
	empty()
	at := timed(func() { run(ws, names...) })
	empty()
	one := timed(func() {
		for i := range 10 {
			run(ws, program, "publish", "file", "--quiet", "--region", fmt.Sprint("r", i))
		}
	})
	row("ten regions at once, against one after another", at, one, "")
	empty()
	fourGiB(ws, temp, cloud)
}

// fourGiB is the memory of a publication of 4 GiB to four regions.
func fourGiB(ws, temp, cloud string) {
	check(os.WriteFile(filepath.Join(ws, "images", "large.toml"), []byte("series = \"1.0\"\nbase = \"field-os\"\n[[stage]]\nname = \"big\"\n"+
		"inline = \"head -c 4000000000 /dev/urandom > /big\"\n[[artifact]]\nformat = \"raw\"\nsize = \"4GiB\"\n"), 0o644))
	run(ws, program, "build", "--quiet", "large")
	cmd := exec.Command(program, "standin")
	cmd.Dir = ws
	check(cmd.Start())
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	time.Sleep(time.Second)
	began := time.Now()
	publish := exec.Command(program, "publish", "large", "--quiet", "--region", "folder,golden,bucket,cloud")
	publish.Dir, publish.Stderr = ws, os.Stderr
	check(publish.Run())
	kb := publish.ProcessState.SysUsage().(*syscall.Rusage).Maxrss
	fmt.Printf("%-46s %6d MiB %10s %7s  128 MB\n", "memory: 4 GiB to four regions, "+round(time.Since(began)), kb>>10, "-", "-")
}

type counter struct{ atomic.Int64 }

// counted counts what is read of a body.
type counted struct {
	io.ReadCloser
	n *counter
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.ReadCloser.Read(p)
	c.n.Add(int64(n))
	return n, err
}
