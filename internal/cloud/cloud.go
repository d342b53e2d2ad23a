// Package cloud is the port to a cloud: what the service asks of one, spoken
// over the adapter contract (api/adapter.yaml). It holds no knowledge of any
// particular cloud.
package cloud

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"plumlatch/internal/cloud/adapter"
)

// ErrUnreachable is wrapped by errors of a cloud that does not answer.
var ErrUnreachable = errors.New("the cloud does not answer")

// RefusedError is the cloud's own no.
type RefusedError struct {
	Status int
	Detail string
}

func (e *RefusedError) Error() string { return "the cloud refused: " + e.Detail }

// NotThere reports whether err says that the cloud does not know the thing.
func NotThere(err error) bool {
	var r *RefusedError
	return errors.As(err, &r) && r.Status == http.StatusNotFound
}

// Cloud is a cloud behind its adapter.
type Cloud struct{ client *adapter.Client }

// The kinds of thing a cloud tells of.
type (
	Capabilities  = adapter.Capabilities
	Image         = adapter.Image
	Size          = adapter.Size
	Zone          = adapter.Zone
	Instance      = adapter.Instance
	InstanceState = adapter.InstanceState
	Operation     = adapter.Operation
	Launch        = adapter.Launch
	FirewallRule  = adapter.FirewallRule
	AgentFile     = adapter.AgentFile
	Snapshot      = adapter.Snapshot
)

// What a cloud may be able to do, and how a guest agent may stand.
const (
	CanFirewall   = adapter.CapabilityFirewall
	CanGuestAgent = adapter.CapabilityGuestAgent
	CanSnapshots  = adapter.CapabilitySnapshots

	AgentReady        = adapter.AgentStateReady
	AgentNotPermitted = adapter.AgentStateNotPermitted
	AgentAbsent       = adapter.AgentStateAbsent
)

// Connect returns the cloud whose adapter is at url; nothing is sent yet.
func Connect(url, token string) (*Cloud, error) {
	client, err := adapter.NewClient(strings.TrimSuffix(url, "/")+"/v1",
		adapter.WithHTTPClient(&http.Client{Timeout: 30 * time.Second}),
		adapter.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			r.Header.Set("Authorization", "Bearer "+token)
			return nil
		}))
	if err != nil {
		return nil, fmt.Errorf("connect to the cloud: %w", err)
	}
	return &Cloud{client}, nil
}

const maxAnswer = 16 << 20

// read turns an answer into a T, or into an error of this package.
func read[T any](r *http.Response, err error) (T, error) {
	var v T
	data, err := body(r, err)
	if err != nil {
		return v, err
	}
	if err := json.Unmarshal(data, &v); err != nil {
		return v, fmt.Errorf("the cloud's answer cannot be read: %w", err)
	}
	return v, nil
}

func body(r *http.Response, err error) ([]byte, error) {
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	defer r.Body.Close()
	data, err := io.ReadAll(io.LimitReader(r.Body, maxAnswer))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	if r.StatusCode < 300 {
		return data, nil
	}
	var p adapter.Problem
	detail := http.StatusText(r.StatusCode)
	if json.Unmarshal(data, &p) == nil && p.Detail != nil {
		detail = *p.Detail
	}
	if r.StatusCode >= 500 {
		return nil, fmt.Errorf("%w: %s", ErrUnreachable, detail)
	}
	return nil, &RefusedError{Status: r.StatusCode, Detail: detail}
}

// Capabilities returns the cloud's name and what it can do.
func (c *Cloud) Capabilities(ctx context.Context) (Capabilities, error) {
	return read[Capabilities](c.client.GetCapabilities(ctx))
}

// Images returns all images.
func (c *Cloud) Images(ctx context.Context) ([]Image, error) {
	return read[[]Image](c.client.ListImages(ctx))
}

// Sizes returns all sizes.
func (c *Cloud) Sizes(ctx context.Context) ([]Size, error) {
	return read[[]Size](c.client.ListSizes(ctx))
}

// Zones returns all zones.
func (c *Cloud) Zones(ctx context.Context) ([]Zone, error) {
	return read[[]Zone](c.client.ListZones(ctx))
}

// Launch begins a launch. The same request token again gives the same operation.
func (c *Cloud) Launch(ctx context.Context, l Launch) (Operation, error) {
	return read[Operation](c.client.LaunchInstance(ctx, l))
}

// Launched returns the instance that was asked for with the token; ok is false
// if there is none.
func (c *Cloud) Launched(ctx context.Context, token string) (i Instance, ok bool, err error) {
	list, err := read[[]Instance](c.client.ListInstances(ctx, &adapter.ListInstancesParams{RequestToken: &token}))
	if err != nil || len(list) == 0 {
		return Instance{}, false, err
	}
	return list[0], true, nil
}

// Instance returns the instance with the cloud's id.
func (c *Cloud) Instance(ctx context.Context, id string) (Instance, error) {
	return read[Instance](c.client.GetInstance(ctx, id))
}

// BootOutput returns what the instance wrote to its console since its last start.
func (c *Cloud) BootOutput(ctx context.Context, id string) (string, error) {
	data, err := body(c.client.GetBootOutput(ctx, id))
	return string(data), err
}

// Start begins a start.
func (c *Cloud) Start(ctx context.Context, id string) (Operation, error) {
	return read[Operation](c.client.StartInstance(ctx, id))
}

// Stop begins a stop.
func (c *Cloud) Stop(ctx context.Context, id string) (Operation, error) {
	return read[Operation](c.client.StopInstance(ctx, id))
}

// Terminate begins the end of an instance and its disks.
func (c *Cloud) Terminate(ctx context.Context, id string) (Operation, error) {
	return read[Operation](c.client.TerminateInstance(ctx, id))
}

// Operation returns how far an operation has come.
func (c *Cloud) Operation(ctx context.Context, id string) (Operation, error) {
	return read[Operation](c.client.GetOperation(ctx, id))
}

// FirewallRules returns all rules.
func (c *Cloud) FirewallRules(ctx context.Context) ([]FirewallRule, error) {
	return read[[]FirewallRule](c.client.ListFirewallRules(ctx))
}

// Agent returns how the guest agent of the instance with the cloud's id stands.
func (c *Cloud) Agent(ctx context.Context, id string) (adapter.AgentState, error) {
	a, err := read[adapter.Agent](c.client.GetAgent(ctx, id))
	return a.State, err
}

// PermitAgent gives or takes back the permission to ask the guest agent.
func (c *Cloud) PermitAgent(ctx context.Context, id string, permitted bool) error {
	_, err := body(c.client.PermitAgent(ctx, id, adapter.PermitAgentJSONRequestBody{Permitted: permitted}))
	return err
}

// AgentFile has the guest agent read a file as root.
func (c *Cloud) AgentFile(ctx context.Context, id, path string) (AgentFile, error) {
	return read[AgentFile](c.client.ReadAgentFile(ctx, id, &adapter.ReadAgentFileParams{Path: path}))
}

// WriteAgentFile has the guest agent of an instance replace a file whose content is
// still was; a new one is made for owner with mode.
func (c *Cloud) WriteAgentFile(ctx context.Context, id, path string, was, content []byte, owner string, mode int) error {
	_, err := body(c.client.WriteAgentFile(ctx, id, &adapter.WriteAgentFileParams{Path: path}, adapter.AgentWrite{Was: was, Content: content, Owner: owner, Mode: mode}))
	return err
}

// Snapshots returns the snapshots and images that were made of instances' disks.
func (c *Cloud) Snapshots(ctx context.Context) ([]Snapshot, error) {
	return read[[]Snapshot](c.client.ListSnapshots(ctx, &adapter.ListSnapshotsParams{}))
}

// MakeSnapshot copies the root disk of an instance.
func (c *Cloud) MakeSnapshot(ctx context.Context, instance, name string, image bool) (Snapshot, error) {
	kind := adapter.SnapshotKindSnapshot
	if image {
		kind = adapter.SnapshotKindImage
	}
	return read[Snapshot](c.client.MakeSnapshot(ctx, adapter.NewSnapshot{Name: name, Instance: instance, Kind: kind}))
}
