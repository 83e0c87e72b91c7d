// Command mutants changes a package in small ways, one at a time, in a sample that a seed chooses, and runs commands on
// each change: which of them notice it? It is for packages whose tests take too long to be run on every change, and for
// the question what one kind of test notices of that which another does. The files themselves are never touched: the
// changed one is laid over its original by GOFLAGS=-overlay, for any go command within the commands.
//
//	go run ./scripts/mutants -in ./internal/x -sample 100 -seed 1 'go test -failfast ./internal/x' 'go test ./internal/y'
//
// Each command runs on what those before it did not notice, or, with -both, on what the first noticed. FILE is the name
// of the changed file without .go in the environment of the commands.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"time"
)

// change is one small change of a file.
type change struct {
	file     string
	at       token.Position
	from, to string
}

// others are the operators that stand in the place of one.
var others = map[token.Token][]token.Token{
	token.EQL: {token.NEQ},
	token.NEQ: {token.EQL},
	token.LSS: {token.LEQ, token.GEQ},
	token.LEQ: {token.LSS, token.GTR},
	token.GTR: {token.GEQ, token.LEQ},
	token.GEQ: {token.GTR, token.LSS},
	token.ADD: {
		token.SUB,
	},
	token.SUB:  {token.ADD},
	token.MUL:  {token.QUO},
	token.QUO:  {token.MUL},
	token.REM:  {token.MUL},
	token.LAND: {token.LOR},
	token.LOR:  {token.LAND},
	token.INC:  {token.DEC},
	token.DEC:  {token.INC},
}

// changes lists all changes of the files of a folder that are no tests and whose names fit.
func changes(dir string, fits *regexp.Regexp) (out []change, err error) {
	files, err := filepath.Glob(filepath.Join(dir, "*.go"))
	if err != nil {
		return nil, err
	}
	set := token.NewFileSet()
	for _, file := range files {
		if strings.HasSuffix(file, "_test.go") || !fits.MatchString(filepath.Base(file)) {
			continue
		}
		tree, err := parser.ParseFile(set, file, nil, 0)
		if err != nil {
			return nil, err
		}
		add := func(at token.Pos, from string, to ...string) {
			for _, t := range to {
				out = append(out, change{file, set.Position(at), from, t})
			}
		}
		ast.Inspect(tree, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.BinaryExpr:
				for _, op := range others[n.Op] {
					add(n.OpPos, n.Op.String(), op.String())
				}
			case *ast.IncDecStmt:
				add(n.TokPos, n.Tok.String(), others[n.Tok][0].String())
			case *ast.UnaryExpr:
				if n.Op == token.NOT {
					add(n.OpPos, "!", "")
				}
			}
			return true
		})
	}
	return out, nil
}

// overlay writes the changed file, and what lays it over the original.
func (c *change) overlay(dir string) (string, error) {
	source, err := os.ReadFile(c.file)
	if err != nil {
		return "", err
	}
	end := c.at.Offset + len(c.from)
	if string(source[c.at.Offset:end]) != c.from {
		return "", fmt.Errorf("%s: %q does not stand there", c.at, c.from)
	}
	changed := filepath.Join(dir, "changed.go")
	if err := os.WriteFile(
		changed,
		append(append(append([]byte{}, source[:c.at.Offset]...), c.to...), source[end:]...),
		0o600,
	); err != nil {
		return "", err
	}
	original, err := filepath.Abs(c.file)
	if err != nil {
		return "", err
	}
	b, err := json.Marshal(map[string]map[string]string{"Replace": {original: changed}})
	if err != nil {
		return "", err
	}
	file := filepath.Join(dir, "overlay.json")
	return file, os.WriteFile(file, b, 0o600)
}

// outcome is what a command said of a change.
type outcome int

const (
	notRun outcome = iota
	passed
	noticed
	notBuilt
)

// run runs a command on a change.
func (c *change) run(overlay, command, keep string, most time.Duration) outcome {
	ctx, cancel := context.WithTimeout(context.Background(), most)
	defer cancel()
	cmd := exec.CommandContext(ctx, "sh", "-c", command)
	cmd.Env = append(os.Environ(), "GOFLAGS="+os.Getenv("GOFLAGS")+" -overlay="+overlay,
		"FILE="+strings.TrimSuffix(filepath.Base(c.file), ".go"))
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second
	out, err := cmd.CombinedOutput()
	if keep != "" {
		head := fmt.Sprintf("== %s %q → %q: %s\n", c.at, c.from, c.to, command)
		os.WriteFile(keep, append([]byte(head), out...), 0o600)
	}
	switch {
	case err == nil:
		return passed
	case bytes.Contains(out, []byte("[build failed]")), bytes.Contains(out, []byte("[setup failed]")):
		return notBuilt
	}
	return noticed // a command that does not end is noticed too
}

func main() {
	in := flag.String("in", "", "the package's folder")
	fits := flag.String("files", "", "a pattern that the file's names have to fit")
	sample := flag.Int("sample", 100, "how many changes are tried; 0 for all")
	seed := flag.Uint64("seed", 1, "chooses them")
	workers := flag.Int("workers", 2, "how many are tried at a time")
	both := flag.Bool("both", false, "run the commands after the first on what the first noticed")
	most := flag.Duration("most", 5*time.Minute, "how long a command may take")
	keep := flag.String("keep", "", "a folder for what the commands print")
	flag.Parse()
	pattern, err := regexp.Compile(*fits)
	if err == nil && (*in == "" || flag.NArg() == 0) {
		err = fmt.Errorf("name a folder with -in, and one command or more")
	}
	var all []change
	if err == nil {
		all, err = changes(*in, pattern)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "mutants:", err)
		os.Exit(2)
	}
	r := rand.New(rand.NewPCG(*seed, 0))
	r.Shuffle(len(all), func(i, k int) { all[i], all[k] = all[k], all[i] })
	total := len(all)
	if *sample > 0 {
		all = all[:min(*sample, total)]
	}
	fmt.Printf("%d changes of %d, seed %d\n", len(all), total, *seed)
	counts := make([]int, flag.NArg())
	tried, notCompiled := 0, 0
	var mu sync.Mutex // guards the counts and the output
	next := make(chan int)
	var wg sync.WaitGroup
	for range *workers {
		wg.Go(func() {
			dir, err := os.MkdirTemp("", "mutant")
			if err != nil {
				panic(err)
			}
			defer os.RemoveAll(dir)
			for i := range next {
				c := &all[i]
				overlay, err := c.overlay(dir)
				if err != nil {
					panic(err)
				}
				found := make([]outcome, flag.NArg())
				for k, command := range flag.Args() {
					if k > 0 && (found[0] == noticed) != *both || found[0] == notBuilt ||
						!*both && k > 1 && found[k-1] != passed {
						continue
					}
					file := ""
					if *keep != "" {
						file = filepath.Join(*keep, fmt.Sprintf("%03d.%d.txt", i, k+1))
					}
					found[k] = c.run(overlay, command, file, *most)
				}
				mu.Lock()
				words := []string{"-", "passed", "NOTICED", "not built"}
				line := fmt.Sprintf("%03d %s %q → %q:", i, c.at, c.from, c.to)
				for k, o := range found {
					line += "  " + words[o]
					if o == noticed {
						counts[k]++
					}
				}
				fmt.Println(line)
				if tried++; found[0] == notBuilt {
					notCompiled++
				}
				mu.Unlock()
			}
		})
	}
	for i := range all {
		next <- i
	}
	close(next)
	wg.Wait()
	fmt.Printf("tried %d, of which %d do not compile; noticed by each command: %v\n", tried, notCompiled, counts)
}
