package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestADeviceIsPutToTheProofByCommand: what is broken is told with what has to be changed, in the lines, in JSON and in the
// report; wrong use is explained.
func TestADeviceIsPutToTheProofByCommand(t *testing.T) {
	t.Parallel()
	demo, dir := demoFolder(t), t.TempDir()
	saved, written := filepath.Join(dir, "p.json"), filepath.Join(dir, "p.md")
	prove := func(more ...string) (int, string) {
		code, out, errOut := run(append([]string{"prove", demo, "--device", "pen-2"}, more...)...)
		return code, out + errOut
	}
	code, text := prove("--check", "goodbye", "--device-fault", "goodbye.unsaid", "--save", saved, "--report", written)
	for _, want := range []string{
		"pen-2 of Marrow Voe sea farm is put to the proof: it dials mqtts://127.0.0.1:", "✗ broken      device.goodbye",
		`it left without "off" on pen.status`, "1 broken in ", "what its programmer has to change:",
		`  - publish "off" on pen.status before DISCONNECT (device.goodbye)`,
	} {
		if !strings.Contains(text, want) {
			t.Errorf("not told: %s, in\n%s", want, text)
		}
	}
	for _, name := range []string{saved, written} {
		b, err := os.ReadFile(name)
		if err != nil || !strings.Contains(string(b), "before DISCONNECT") ||
			name == written &&
				(!strings.Contains(string(b), "Proof of the device pen-2") || !strings.Contains(string(b), "MQTT §3.14") ||
					!strings.Contains(string(b), "What its programmer has to change") ||
					!strings.Contains(string(b), `publish "off" on pen.status before DISCONNECT (device.goodbye)`) ||
					!strings.Contains(string(b), "What was done: it says goodbye")) {
			t.Errorf("%s: %v\n%s", name, err, b)
		}
	}
	if code != 1 {
		t.Errorf("exit %d", code)
	}
	if code, text := prove("--check", "goodbye", "--json"); code != 0 || !strings.Contains(text, `"verdict": "kept"`) {
		t.Errorf("exit %d\n%s", code, text)
	}
	for _, tt := range [][2]string{
		{"--check nothing", "there is no check of a device"}, {"--protocol-version 5", "does not go with --device"},
		{"--device-fault nothing --check goodbye", "has no fault"}, {"--real --device-fault flood", "is real"},
		{"--listen smtp://x", "smtp"}, {"--list", "run nothing"}, {"--device pen-9", "there is no device"},
	} {
		if code, text := prove(strings.Fields(tt[0])...); code != 2 || !strings.Contains(text, tt[1]) {
			t.Errorf("%s: exit %d\n%s", tt[0], code, text)
		}
	}
	if code, _, errOut := run("prove", demo, "--real"); code != 2 || !strings.Contains(errOut, "go with --device") {
		t.Errorf("exit %d: %s", code, errOut)
	}
}
