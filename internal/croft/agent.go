package croft

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/digitalocean/go-libvirt"

	"plumlatch/internal/adapter"
	"plumlatch/internal/core/text"
)

// The guest agent is QEMU's (https://qemu-project.gitlab.io/qemu/interop/qemu-ga.html), asked by way of libvirt. It
// works as root; what is done for a user is done by a process that it starts with the user's rights.

const (
	// agentWithin is for how long one request may take, and commandWithin for how long a command may run.
	agentWithin   = 20 // seconds
	commandWithin = 2 * time.Minute
	// chunk is how much goes in or comes out by one request, in bytes: larger ones were seen to hang.
	chunk = 48 << 10
	// mostFile is the limit of the contract for files, and mostOutput how much of a command's output is taken, in bytes.
	mostFile   = 1 << 20
	mostOutput = 4 << 20
	// conflictStatus is the exit status of a script that has found something that is to be refused, and says what.
	conflictStatus = 40
)

//go:embed common.sh
var common string

//go:embed read.sh
var readScript string

//go:embed write.sh
var writeScript string

// ask has the guest agent do something.
func (m *machine) ask(ctx context.Context, command string, arguments, answer any) error {
	request := map[string]any{"execute": command}
	if arguments != nil {
		request["arguments"] = arguments
	}
	sent, err := json.Marshal(request)
	if err != nil {
		return err
	}
	if m.host.contains() {
		said, err := m.host.askByFolder(ctx, m.id, string(sent), agentWithin*time.Second)
		if err != nil {
			return err
		}
		return m.answer(said, answer)
	}
	var said libvirt.OptString
	err = m.host.call(ctx, func(l *libvirt.Libvirt) (err error) {
		said, err = l.QEMUDomainAgentCommand(m.domain, string(sent), agentWithin, 0)
		return err
	})
	switch {
	case err != nil:
		return err
	case len(said) == 0:
		return fmt.Errorf("the guest agent of %s gives no answer", m.mark.Name)
	}
	return m.answer(said[0], answer)
}

// answer reads what a guest agent has said.
func (m *machine) answer(said string, answer any) error {
	var envelope struct {
		Return json.RawMessage `json:"return"`
	}
	if err := json.Unmarshal([]byte(said), &envelope); err != nil {
		return fmt.Errorf("the guest agent of %s gives an answer that cannot be read: %w", m.mark.Name, err)
	}
	if answer == nil {
		return nil
	}
	if err := json.Unmarshal(envelope.Return, answer); err != nil {
		return fmt.Errorf("the guest agent of %s gives an answer that cannot be read: %w", m.mark.Name, err)
	}
	return nil
}

// ran is what came of a command.
type ran struct {
	status      int
	out, errors []byte
}

// run has the guest agent run a command as root, with no more than chunk bytes of input.
func (m *machine) run(ctx context.Context, input []byte, command ...string) (r ran, err error) {
	arguments := map[string]any{"path": command[0], "arg": command[1:], "capture-output": true}
	if len(command) == 1 {
		delete(arguments, "arg")
	}
	if m.environment != nil {
		arguments["env"] = m.environment
	}
	if len(input) > 0 {
		arguments["input-data"] = input // base64, as encoding/json writes bytes
	}
	var started struct {
		PID int `json:"pid"`
	}
	if err := m.ask(ctx, "guest-exec", arguments, &started); err != nil {
		return r, m.blocked(err, command[0])
	}
	wait := 20 * time.Millisecond
	for until := time.Now().Add(commandWithin); ; {
		var now struct {
			Exited   bool   `json:"exited"`
			ExitCode int    `json:"exitcode"`
			Signal   int    `json:"signal"`
			Out      []byte `json:"out-data"`
			Err      []byte `json:"err-data"`
		}
		if err := m.ask(ctx, "guest-exec-status", map[string]any{"pid": started.PID}, &now); err != nil {
			return r, err
		}
		if now.Exited {
			if now.Signal != 0 {
				now.ExitCode = 128 + now.Signal
			}
			return ran{now.ExitCode, now.Out, now.Err}, nil
		}
		if time.Now().After(until) {
			return r, fmt.Errorf("%s has not ended on %s after %s", command[0], m.mark.Name, commandWithin)
		}
		if err := pause(ctx, wait); err != nil {
			return r, err
		}
		wait = min(2*wait, time.Second)
	}
}

// blocked says of an agent that knows a command and may not do it, as images of some families have it, what to change.
func (m *machine) blocked(err error, what string) error {
	said := err.Error()
	if strings.Contains(said, "has been disabled") || strings.Contains(said, "not been found") ||
		strings.Contains(said, "CommandNotFound") {
		return adapter.Conflict(fmt.Sprintf(
			"the guest agent of %s may not run %s: the image %s blocks guest-exec; allow it in the agent's settings "+
				"(/etc/sysconfig/qemu-ga or /etc/qemu/qemu-ga.conf)", m.mark.Name, what, m.mark.Image,
		))
	}
	return err
}

// agentState is the state of the machine's guest agent now.
func (m *machine) agentState(ctx context.Context) adapter.AgentState {
	switch {
	case !m.mark.Agent:
		return adapter.AgentStateAbsent
	case !m.mark.AgentAllowed:
		return adapter.AgentStateNotPermitted
	case !m.runs() || m.ask(ctx, "guest-ping", nil, nil) != nil:
		return adapter.AgentStateRegistering
	}
	return adapter.AgentStateReady
}

// withAgent finds a machine whose agent may be asked.
func (c *Croft) withAgent(ctx context.Context, id string) (machine, error) {
	m, err := c.find(ctx, id)
	if err != nil {
		return m, err
	}
	switch {
	case !m.mark.Agent:
		return m, adapter.Conflict(fmt.Sprintf("the guest agent of %s is %s", m.mark.Name, adapter.AgentStateAbsent))
	case !m.mark.AgentAllowed:
		return m, adapter.Conflict(fmt.Sprintf("the guest agent of %s is %s", m.mark.Name, adapter.AgentStateNotPermitted))
	case !m.runs():
		return m, adapter.Conflict(m.mark.Name + " does not run")
	}
	return m, nil
}

func (a api) GetAgent(ctx context.Context, r adapter.GetAgentRequestObject) (adapter.GetAgentResponseObject, error) {
	m, err := a.find(ctx, r.Instance)
	if err != nil {
		return nil, err
	}
	return adapter.GetAgent200JSONResponse{State: m.agentState(ctx)}, nil
}

// PermitAgent keeps with the machine whether its agent may be asked.
func (a api) PermitAgent(
	ctx context.Context, r adapter.PermitAgentRequestObject,
) (adapter.PermitAgentResponseObject, error) {
	defer a.lock("mark " + r.Instance)()
	m, err := a.find(ctx, r.Instance)
	if err != nil {
		return nil, err
	}
	if r.Body.Permitted && !m.mark.Agent {
		return nil, adapter.Conflict("the image " + m.mark.Image + " has no guest agent")
	}
	if m.mark.AgentAllowed != r.Body.Permitted {
		m.mark.AgentAllowed = r.Body.Permitted
		if err := m.keepMark(ctx); err != nil {
			return nil, err
		}
	}
	return adapter.PermitAgent200JSONResponse{State: m.agentState(ctx)}, nil
}

func (a api) RunAgentCommand(
	ctx context.Context, r adapter.RunAgentCommandRequestObject,
) (adapter.RunAgentCommandResponseObject, error) {
	m, err := a.withAgent(ctx, r.Instance)
	if err != nil {
		return nil, err
	}
	if len(r.Body.Command) == 0 || r.Body.Command[0] == "" {
		return nil, adapter.BadRequest("there is no command")
	}
	if len(given(r.Body.Input)) > chunk {
		return nil, adapter.BadRequest(fmt.Sprintf("the input has more than %d bytes", chunk))
	}
	got, err := m.run(ctx, given(r.Body.Input), r.Body.Command...)
	if err != nil {
		return nil, err
	}
	return adapter.RunAgentCommand200JSONResponse{
		Status: got.status, Output: append([]byte{}, got.out[:min(len(got.out), mostOutput)]...),
		Errors: text.Line(string(got.errors), 4096),
	}, nil
}

// places cleans a path and the folder that it is below.
func places(name string, below *string) (string, string, error) {
	under := "/"
	if below != nil {
		under = *below
	}
	if !path.IsAbs(name) || !path.IsAbs(under) || strings.ContainsAny(name+under, "\x00\n") {
		return "", "", adapter.BadRequest(fmt.Sprintf("the path %q below %q is not absolute", name, under))
	}
	name, under = path.Clean(name), path.Clean(under)
	if under == "/" {
		under = ""
	}
	return name, under, nil
}

// script runs one of the scripts for a path below a folder. What it refuses is a conflict.
func (m *machine) script(ctx context.Context, script string, input []byte, arguments ...string) ([]byte, error) {
	with := *m
	with.environment = []string{"CROFT_SCRIPT=" + script} // which starts itself again with fewer rights
	got, err := with.run(ctx, input, append([]string{"/bin/sh", "-c", script, "croft"}, arguments...)...)
	switch {
	case err != nil:
		return nil, err
	case got.status == conflictStatus:
		return nil, adapter.Conflict(text.Line(string(got.errors), 300))
	case got.status != 0:
		return nil, fmt.Errorf("%s: status %d: %s", m.mark.Name, got.status, text.Line(string(got.errors), 300))
	}
	return got.out, nil
}

// ReadAgentFile reads a file, with the rights of the user that is named or as root.
func (a api) ReadAgentFile(
	ctx context.Context, r adapter.ReadAgentFileRequestObject,
) (adapter.ReadAgentFileResponseObject, error) {
	m, err := a.withAgent(ctx, r.Instance)
	if err != nil {
		return nil, err
	}
	name, below, err := places(r.Params.Path, r.Params.Below)
	if err != nil {
		return nil, err
	}
	out := adapter.ReadAgentFile200JSONResponse{}
	content := []byte{}
	digest := ""
	for { // a chunk at a time; the digest shows that all are of one file
		said, err := m.script(
			ctx,
			common+readScript,
			nil,
			below,
			name,
			given(r.Params.User),
			strconv.Itoa(len(content)),
			strconv.Itoa(chunk),
		)
		if err != nil {
			return nil, err
		}
		head, part, _ := bytes.Cut(said, []byte("\n"))
		told := strings.Fields(string(head)) // kind, mode, owner, size, SHA-256
		if len(told) != 5 {
			return nil, fmt.Errorf("%s: the guest told of %s: %q", m.mark.Name, name, text.Line(string(head), 200))
		}
		mode, err := strconv.ParseUint(told[1], 8, 12)
		if err != nil {
			return nil, fmt.Errorf("%s: the guest told of %s: %q", m.mark.Name, name, text.Line(string(head), 200))
		}
		out.Kind, out.Mode, out.Owner = adapter.AgentFileKind(told[0]), int(mode&0o777), text.Line(told[2], 64)
		switch out.Kind {
		case adapter.AgentFileKindNone:
			return adapter.ReadAgentFile200JSONResponse{Kind: out.Kind}, nil
		case adapter.AgentFileKindFile:
		case adapter.AgentFileKindFolder, adapter.AgentFileKindLink, adapter.AgentFileKindOther:
			return out, nil
		default:
			return nil, fmt.Errorf("%s: the guest told of %s: %q", m.mark.Name, name, text.Line(string(head), 200))
		}
		size, err := strconv.Atoi(told[3])
		if err != nil || size < 0 || size > mostFile {
			return nil, adapter.Conflict(fmt.Sprintf("%s has %s bytes; %d is the limit", name, told[3], mostFile))
		}
		if digest != told[4] && digest != "" {
			return nil, adapter.Conflict(name + " was changed while it was read")
		}
		digest = told[4]
		if len(part) != min(chunk, size-len(content)) {
			return nil, adapter.Conflict(name + " was changed while it was read")
		}
		if content = append(content, part...); len(content) < size {
			continue
		}
		if sum := sha256.Sum256(content); hex.EncodeToString(sum[:]) != digest {
			return nil, adapter.Conflict(name + " was changed while it was read")
		}
		out.Content = &content
		return out, nil
	}
}

// WriteAgentFile replaces a file with the rights of its owner.
func (a api) WriteAgentFile(
	ctx context.Context, r adapter.WriteAgentFileRequestObject,
) (adapter.WriteAgentFileResponseObject, error) {
	m, err := a.withAgent(ctx, r.Instance)
	if err != nil {
		return nil, err
	}
	name, below, err := places(r.Params.Path, r.Params.Below)
	if err != nil {
		return nil, err
	}
	b := r.Body
	switch {
	case b.Mode&^0o777 != 0:
		return nil, adapter.BadRequest(fmt.Sprintf("%o are no permission bits", b.Mode))
	case len(b.Content) > mostFile:
		return nil, adapter.BadRequest(fmt.Sprintf("%d bytes are too many; %d is the limit", len(b.Content), mostFile))
	case !nameForm.MatchString(b.Owner):
		return nil, adapter.BadRequest(fmt.Sprintf("%q is no user", b.Owner))
	}
	defer a.lock("files " + r.Instance)() // two compare and rename one after the other
	was, content := sha256.Sum256(b.Was), sha256.Sum256(b.Content)
	arguments := []string{
		below, name, b.Owner, hex.EncodeToString(was[:]), hex.EncodeToString(content[:]), strconv.FormatInt(int64(b.Mode), 8),
		strconv.Itoa(len(b.Was)),
	}
	if len(b.Content) <= chunk {
		if _, err := m.script(ctx, common+writeScript, b.Content, arguments...); err != nil {
			return nil, err
		}
		return adapter.WriteAgentFile204Response{}, nil
	}
	// What is longer is laid down first where only root gets at it.
	whole := "/run/croft-" + rand.Text()
	defer m.run(
		context.WithoutCancel(ctx),
		nil,
		"/bin/rm",
		"-f",
		whole,
	) //nolint:errcheck // it is gone with the next start
	for rest := b.Content; len(rest) > 0; {
		part := rest[:min(len(rest), chunk)]
		rest = rest[len(part):]
		if _, err := m.script(ctx, `umask 077; cat >> "$1"`, part, whole); err != nil {
			return nil, err
		}
	}
	if _, err := m.script(ctx, common+writeScript, nil, append(arguments, whole)...); err != nil {
		return nil, err
	}
	return adapter.WriteAgentFile204Response{}, nil
}
