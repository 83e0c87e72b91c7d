package cli_test

import (
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/sys/unix"
	batch "k8s.io/api/batch/v1"
	"sigs.k8s.io/yaml"

	"hodstone/internal/brokertest"
	"hodstone/internal/fleet"
)

// loadSite is a site with a load on a clause.
const loadSite = `hodstone: 1
brokers:
  quay: {stand-in: {listeners: {tcp: "127.0.0.1:0", tls: "127.0.0.1:0", ws: "127.0.0.1:0"}, anonymous: true}}
  far: {listeners: {tcp: {url: "mqtt://192.0.2.1:1883"}}}
contract:
  parties: {pen: {terms: {client-id: "pen-{pen}", keep-alive: 10s..60s}}, shore: }
  parameters: {pen: {values: ["1", "2"]}}
  clauses:
    reading: {topic: "v/{pen}/reading", from: pen, to: shore, qos: 1, retain: true, every: 1s ± 2s, payload: {format: json, schema: {type: object, required: [kg], properties: {kg: {type: number, maximum: 10}}}}, examples: [{kg: 4}]}
devices:
  pen: {count: 2, plays: pen, broker: quay/tcp, parameters: {pen: "{n}"}, session: {client-id: "pen-{n}", keep-alive: 20s}, signals: {kg: {wave: ramp, from: 11, to: 12, period: 5s}}, publishes: [{clause: reading, every: 1s, payload: {kg: "= kg"}}]}
loads:
  tide: {clients: {pen: 20}, publish: {clause: reading, every: 100ms}, ramp: {from: 10, to: 20, by: 10, hold: 1s}, bound: {p99: 5s, lost: 0}}
  mixed: {clients: {plain: 4, tls: 4, ws: 4}, shape: pairs, publish: {every: 50ms, each: 5, size: 100, qos: 2, jitter: 10%}, bound: {lost: 0}}
  wills: {clients: {plain: 10}, storm: wills, hold: 300ms}
`

func loadFile(t *testing.T) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "w.yaml")
	if err := os.WriteFile(file, []byte(loadSite), 0o600); err != nil {
		t.Fatal(err)
	}
	return file
}

// TestALoadOfTheWorkspace: clients of devices come with numbers behind the site's own, some are judged by the contract, and what
// the fleet let the broker store is gone afterwards.
func TestALoadOfTheWorkspace(t *testing.T) {
	t.Parallel()
	file, dir := loadFile(t), t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	args := []string{"load", file, "tide", "--out", at("r.json"), "--csv", at("r.csv"), "--drawing", at("r.pdf")}
	code, out, errOut := run(args...)
	if strings.Contains(out, "by its own doing") { // this machine kept the generator from its work
		t.Log("once more")
		code, out, errOut = run(args...)
	}
	for _, want := range []string{"load tide on quay/tcp mqtt://127.0.0.1", "✓ held", "20 in of 20", "0 lost", "of 10 traced clients, 0 breaches", "the bound held at every step"} {
		if code != 0 || !strings.Contains(out, want) {
			t.Errorf("%d, no %q in\n%s%s", code, want, out, errOut)
		}
	}
	for name, want := range map[string]string{"r.csv": "at,length,step,connected", "r.pdf": "%PDF-", "r.json": `"histogram"`} {
		if b, err := os.ReadFile(at(name)); err != nil || !strings.Contains(string(b[:min(len(b), 20_000)]), want) {
			t.Error(name, err)
		}
	}
	code, out, _ = run("load", file, "tide", "--payload-from", "signals", "--bound", "p99<1us")
	// Which of them broke it first is chance; that none is the site's own 1 or 2 is not.
	for _, want := range []string{`✗ v/([3-9]|1\d|2[012])/reading breaks reading, schema maximum at /kg: expected maximum 10`, "✗ p99<1µs: "} {
		if code != 1 || !regexp.MustCompile(want).MatchString(out) ||
			regexp.MustCompile(`v/[12]/reading`).MatchString(out) {
			t.Errorf("%d, no %q in\n%s", code, want, out)
		}
	}
	code, out, errOut = run("load", file, "mixed", "--json", "--drawing", at("over.svg"), "--over", at("r.json"))
	var r fleet.Result
	if err := json.Unmarshal(
		[]byte(out),
		&r,
	); err != nil || code != 0 && !strings.Contains(errOut, "less than two seconds") || r.Total.Sent != 30 ||
		r.Total.Received != 30 || r.Total.In != 12 || r.Total.Handshakes != 4 || r.Shape != fleet.Pairs ||
		r.QoS != 2 {
		t.Errorf("%d %v %+v %s", code, err, r.Total, errOut)
	}
	if code, out, _ = run("load", file, "wills"); code != 0 || !strings.Contains(out, "wills: 10 of 10 wills came") {
		t.Errorf("%d\n%s", code, out)
	}
}

// TestWhatALoadIsRefused: others' brokers, and options that make no sense, each with a word on what to do.
func TestWhatALoadIsRefused(t *testing.T) {
	t.Parallel()
	file := loadFile(t)
	for args, want := range map[string]string{
		file + " --broker far --plain 5":                                  "write 'load: allowed' under it",
		"mqtt://192.0.2.1:1883 --clients 5":                               "neither a stand-in nor on this machine",
		file + " ebb":                                                     "there are: tide, mixed, wills",
		file:                                                              "say how many clients",
		file + " --client net=5":                                          "there are: plain, tls, ws, wss, pen",
		file + " --client pen=x":                                          "takes KIND=N",
		file + " --wss 5":                                                 "no listener for wss clients",
		file + " --plain 5 --shape square":                                "there are: echo, pairs",
		file + " --plain 5 --bound p99":                                   "write p99<100ms or lost=0",
		file + " --plain 5 --ramp 9..5":                                   "a ramp climbs",
		file + " --plain 5 --ramp 5":                                      "write 50..500/50",
		file + " --plain 5 --ramp 1..5 --ramp-rate 1..5":                  "not both",
		file + " --plain 5 --size 3":                                      "24 bytes are the least",
		file + " --plain 5 --rate 5/s --find rate":                        "a bound has to be given",
		file + " --plain 5 --find speed --bound lost=0":                   "highest rate, or number of clients",
		file + " --plain 5 --storm snow":                                  "takes reconnect, restart or wills",
		file + " --plain 5 --shard 5/4":                                   "such as 3/16",
		file + " --plain 5 --start-at noon":                               "15:04",
		file + " --plain 5 --credentials /nowhere":                        "cannot be read",
		file + " --plain 5 --rate fast":                                   "--rate",
		file + " --plain 5 --jitter 3":                                    "a share is written 5%",
		file + " --plain 5 --local here":                                  "127.0.0.2-127.0.0.9",
		file + " --plain 5 --qos 3":                                       "takes 0, 1 or 2",
		file + " --clients 5":                                             "go with a URL",
		file + " --plain 5 --over x":                                      "goes with --drawing",
		file + " --client pen=5 --clause reading --payload-from thin-air": "takes example, signals or size",
		file + " --plain 5 --login nobody":                                `no login "nobody"`,
		file + " --plain 5 --write nomad --shard 1/2":                     "takes kubernetes or slurm",
		file + " --plain 5 --write slurm":                                 "needs --shard",
		"merge /nowhere.json":                                             "cannot be read",
		file + " --plain 5 --hold 1h --out /nowhere/x.json":               "the result cannot be written: /nowhere/x.json: no such",
		file + " --plain 5 --hold 1h --csv /":                             "the seconds cannot be written: / is a folder",
		file + " --plain 5 --hold 1h --drawing x.png":                     "written as .svg or .pdf",
		"mqtt://127.0.0.1:1 --clients 2 --every 1s --hold 1s":             "nobody got in",
	} {
		code, out, errOut := run(append([]string{"load"}, strings.Fields(args)...)...)
		wantCode := 2
		if strings.Contains(want, "nobody") && !strings.Contains(want, "login") {
			wantCode = 3
		}
		if code != wantCode || !strings.Contains(errOut, want) {
			t.Errorf("%s: %d, want %q: %s%s", args, code, want, out, errOut)
		}
	}
}

// TestPartsOfALoadAgainstARealBroker: four parts as four commands, merged, are the whole; metrics are served meanwhile.
func TestPartsOfALoadAgainstARealBroker(t *testing.T) {
	t.Parallel()
	broker := brokertest.Start(t, brokertest.Options{Anonymous: true})
	dir := t.TempDir()
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	metrics := free.Addr().String()
	free.Close()
	var all sync.WaitGroup
	var parts []string
	for i := range 4 {
		part := filepath.Join(dir, fmt.Sprintf("part%d.json", i+1))
		parts = append(parts, part)
		all.Go(func() {
			args := []string{
				"load",
				broker.URLs["tcp"],
				"--clients",
				"40",
				"--each",
				"10",
				"--every",
				"100ms",
				"--shard",
				fmt.Sprintf("%d/4", i+1),
				"--out",
				part,
				"--start-at",
				time.Now().Add(time.Second).Format(time.RFC3339),
				"--qos",
				"1",
				"--hold",
				"20s",
			}
			if i == 0 {
				args = append(args, "--metrics", metrics)
			}
			if code, out, errOut := run(args...); code != 0 {
				t.Errorf("%d %s%s", code, out, errOut)
			}
		})
	}
	all.Go(func() {
		for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
			req, _ := http.NewRequestWithContext(t.Context(), http.MethodGet, "http://"+metrics+"/metrics", nil)
			req.Header.Set("Accept", "application/openmetrics-text")
			res, err := http.DefaultClient.Do(req)
			if err != nil {
				continue
			}
			text := make([]byte, 10_000)
			n, _ := res.Body.Read(text)
			res.Body.Close()
			if strings.Contains(string(text[:n]), "hodstone_load_clients 10.0") {
				return
			}
		}
		t.Error("the metrics never told of ten clients")
	})
	all.Wait()
	code, out, errOut := run(append([]string{"load", "merge"}, parts...)...)
	for _, want := range []string{"40 in of 40", "400 sent, 400 received of 400 expected, 0 lost", "merged of 4 parts: 1/4, 2/4, 3/4, 4/4"} {
		if code != 0 || !strings.Contains(out, want) {
			t.Errorf("%d, no %q in\n%s%s", code, want, out, errOut)
		}
	}
	if code, out, errOut := run(
		"load",
		"merge",
		parts[3],
		parts[0],
	); code != 1 ||
		!strings.Contains(out, "absent     2/4, 3/4") ||
		!strings.Contains(errOut, "parts are absent: 2/4, 3/4") {
		t.Error(code, out, errOut)
	}
	if code, _, errOut := run("load", "merge", parts[0], parts[0]); code != 2 || !strings.Contains(errOut, "twice") {
		t.Error(code, errOut)
	}
}

// TestARealBrokersLimitsAreNamed: a lack of descriptors, a configured cap and a queue, each by its name.
func TestARealBrokersLimitsAreNamed(t *testing.T) {
	t.Parallel()
	load := func(b *brokertest.Broker, args ...string) string {
		_, out, errOut := run(append([]string{"load", b.URLs["tcp"]}, args...)...)
		return out + errOut
	}
	var all sync.WaitGroup
	all.Go(func() {
		b := brokertest.Start(t, brokertest.Options{Anonymous: true})
		if err := unix.Prlimit(b.PID(), unix.RLIMIT_NOFILE, &unix.Rlimit{Cur: 256, Max: 256}, nil); err != nil {
			t.Error(err)
		}
		if out := load(
			b,
			"--clients",
			"300",
			"--hold",
			"1s",
			"--bound",
			"refused=0",
		); !strings.Contains(out, "the broker's descriptors: its process has") ||
			!strings.Contains(out, "of 256 open") ||
			!strings.Contains(out, "limit      the broker was the limit") {
			t.Error(out)
		}
	})
	all.Go(func() {
		b := brokertest.Start(t, brokertest.Options{Anonymous: true, Listener: "max_connections 50\n"})
		if out := load(
			b,
			"--clients",
			"80",
			"--hold",
			"1s",
			"--bound",
			"refused=0",
		); !strings.Contains(
			out,
			"a cap on connections, of the broker's configuration or licence",
		) ||
			strings.Contains(out, "the broker's descriptors") {
			t.Error(out)
		}
	})
	all.Go(func() {
		b := brokertest.Start(
			t,
			brokertest.Options{
				Anonymous: true,
				Lines:     "max_queued_messages 10\nmax_inflight_messages 1\nsys_interval 1\n",
			},
		)
		if out := load(
			b,
			"--clients",
			"100",
			"--shape",
			"fan-in",
			"--qos",
			"1",
			"--rate",
			"20000/s",
			"--hold",
			"3s",
			"--bound",
			"lost=0",
		); !strings.Contains(
			out,
			"a queue of the broker's: ",
		) ||
			strings.Contains(out, "the generator was the limit") { // on a busy machine it may be both
			t.Error(out)
		}
	})
	all.Wait()
}

// TestWhatEnginesRun: the file for one engine is read strictly into its own types; the script for the other is run.
func TestWhatEnginesRun(t *testing.T) {
	t.Parallel()
	file := loadFile(t)
	code, out, errOut := run(
		"load",
		file,
		"tide",
		"--qos",
		"1",
		"--bound",
		"p99<1s,lost=0",
		"--shard",
		"env/16",
		"--write",
		"kubernetes",
	)
	var job batch.Job
	if err := yaml.UnmarshalStrict([]byte(out), &job); err != nil || code != 0 {
		t.Fatal(code, err, errOut)
	}
	pod := job.Spec.Template.Spec
	if *job.Spec.CompletionMode != batch.IndexedCompletion || *job.Spec.Completions != 16 ||
		*job.Spec.Parallelism != 16 ||
		len(pod.Containers) != 1 ||
		len(pod.Volumes) != 1 ||
		pod.RestartPolicy != "Never" {
		t.Errorf("%+v", job.Spec)
	}
	args := strings.Join(pod.Containers[0].Args, " ")
	for _, want := range []string{"load w.yaml tide", "--bound=p99<1s,lost=0", "--shard=env/16", "--start-at=", "--json"} {
		if !strings.Contains(args, want) {
			t.Errorf("no %q in %s", want, args)
		}
	}
	code, out, errOut = run(
		"load",
		"mqtt://127.0.0.1:1883",
		"--clients",
		"40",
		"--bound",
		"p99<1s",
		"--shard",
		"env/4",
		"--write",
		"slurm",
	)
	for _, want := range []string{"#SBATCH --array=1-4", "'--bound=p99<1s'", "'--shard=env/4'", "--out=part-$SLURM_ARRAY_TASK_ID.json", "'mqtt://127.0.0.1:1883'"} {
		if code != 0 || !strings.HasPrefix(out, "#!/bin/sh\n") || !strings.Contains(out, want) {
			t.Errorf("%d, no %q in %s%s", code, want, out, errOut)
		}
	}
}

// TestAPartOfAnEngine: which part it is stands in the environment.
func TestAPartOfAnEngine(t *testing.T) {
	file := loadFile(t)
	if code, _, errOut := run(
		"load",
		file,
		"mixed",
		"--shard",
		"env/2",
	); code != 2 ||
		!strings.Contains(errOut, "neither is set") {
		t.Error(code, errOut)
	}
	t.Setenv("JOB_COMPLETION_INDEX", "1")
	_, out, errOut := run("load", file, "mixed", "--shard", "env/2", "--json")
	var r fleet.Result
	if err := json.Unmarshal(
		[]byte(out),
		&r,
	); err != nil || r.Shard != "2/2" || r.Total.In != 6 ||
		r.Total.Received != 15 {
		t.Errorf("%v %+v %s", err, r.Total, errOut)
	}
}
