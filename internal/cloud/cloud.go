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
	"time"

	"plumlatch/internal/cloud/adapter"
	"plumlatch/internal/core/text"
)

// ErrUnreachable is wrapped by errors of a cloud that does not answer.
var ErrUnreachable = errors.New("the cloud does not answer")

// ErrPaused is wrapped by the errors of a cloud that somebody has paused.
var ErrPaused = errors.New("it is paused")

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
type Cloud struct {
	client *adapter.Client
	over   http.RoundTripper
	// timeout is for how long a call is waited for.
	timeout time.Duration
}

// Way returns what sends the calls to the adapter, and for how long each is waited for.
func (c *Cloud) Way() (http.RoundTripper, time.Duration) { return c.over, c.timeout }

// The kinds of thing a cloud tells of.
type (
	Capabilities  = adapter.Capabilities
	Capability    = adapter.Capability
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
	Disk          = adapter.Disk
	Attachment    = adapter.Attachment
	MetadataKey   = adapter.MetadataKey
	Password      = adapter.Password
	CommandResult = adapter.CommandResult
	Fault         = adapter.Fault
	FaultKind     = adapter.FaultKind

	InstanceChanges = adapter.InstanceChanges
	KeyPair         = adapter.KeyPair
	KeyPairs        = adapter.KeyPairs
	KeyGroup        = adapter.KeyGroup
)

// What a cloud may be able to do, what an instance may be doing, and the states of a guest agent.
const (
	CanFirewall   = adapter.CapabilityFirewall
	CanBootOutput = adapter.CapabilityBootOutput
	CanGuestAgent = adapter.CapabilityGuestAgent
	CanSnapshots  = adapter.CapabilitySnapshots
	CanStartStop  = adapter.CapabilityStartStop
	CanLaunch     = adapter.CapabilityLaunch
	CanDisks      = adapter.CapabilityDisks
	CanAddresses  = adapter.CapabilityStaticAddresses
	CanMetadata   = adapter.CapabilityMetadataKeys
	CanShell      = adapter.CapabilityBrowserShell
	CanPasswords  = adapter.CapabilityPasswords
	CanChanges    = adapter.CapabilityInstanceChanges
	CanCatalogue  = adapter.CapabilityKeyCatalogue
	CanGroupKeys  = adapter.CapabilityGroupKeys

	AgentFileIsNone   = adapter.AgentFileKindNone
	AgentFileIsFile   = adapter.AgentFileKindFile
	AgentFileIsFolder = adapter.AgentFileKindFolder

	Launching = adapter.InstanceStateLaunching
	Running   = adapter.InstanceStateRunning
	Stopping  = adapter.InstanceStateStopping
	Stopped   = adapter.InstanceStateStopped
	Starting  = adapter.InstanceStateStarting
	Deleting  = adapter.InstanceStateDeleting
	Deleted   = adapter.InstanceStateDeleted

	AgentReady        = adapter.AgentStateReady
	AgentNotPermitted = adapter.AgentStateNotPermitted
	AgentAbsent       = adapter.AgentStateAbsent
)

// CallTimeout is for how long a call is waited for where nothing else is said.
const CallTimeout = 30 * time.Second

// maxAnswer is the longest answer that is read, in bytes. More is an error.
const maxAnswer = 8 << 20

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
	data, err := io.ReadAll(io.LimitReader(r.Body, maxAnswer+1))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	if len(data) > maxAnswer {
		return nil, fmt.Errorf("%w: its answer has over %d bytes", ErrUnreachable, maxAnswer)
	}
	if r.StatusCode < 300 {
		return data, nil
	}
	var p adapter.Problem
	detail := http.StatusText(r.StatusCode)
	if json.Unmarshal(data, &p) == nil && p.Detail != nil {
		detail = text.Line(*p.Detail, text.MaxLine)
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

// Delete begins the end of an instance and its disks.
func (c *Cloud) Delete(ctx context.Context, id string) (Operation, error) {
	return read[Operation](c.client.DeleteInstance(ctx, id))
}

// Operation returns how far an operation has come.
func (c *Cloud) Operation(ctx context.Context, id string) (Operation, error) {
	return read[Operation](c.client.GetOperation(ctx, id))
}

// Await asks for an operation again and again until it has ended. One that failed is an
// error.
func (c *Cloud) Await(ctx context.Context, op Operation, err error) (Operation, error) {
	for err == nil && op.State == adapter.OperationStateRunning {
		select {
		case <-ctx.Done():
			return op, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
		op, err = c.Operation(ctx, op.Id)
	}
	if err == nil && op.State == adapter.OperationStateFailed {
		why := "without saying why"
		if op.Error != nil {
			why = text.Line(*op.Error, text.MaxLine)
		}
		err = fmt.Errorf("the cloud could not %s: %s", text.Line(string(op.Kind), text.MaxLine), why)
	}
	return op, err
}

// FirewallRules returns all rules.
func (c *Cloud) FirewallRules(ctx context.Context) ([]FirewallRule, error) {
	return read[[]FirewallRule](c.client.ListFirewallRules(ctx))
}

// Agent returns the state of the guest agent of the instance with the cloud's id.
func (c *Cloud) Agent(ctx context.Context, id string) (adapter.AgentState, error) {
	a, err := read[adapter.Agent](c.client.GetAgent(ctx, id))
	return a.State, err
}

// PermitAgent gives or takes back the permission to ask the guest agent.
func (c *Cloud) PermitAgent(ctx context.Context, id string, permitted bool) error {
	_, err := body(c.client.PermitAgent(ctx, id, adapter.PermitAgentJSONRequestBody{Permitted: permitted}))
	return err
}

// AgentPlace is a system that a guest agent reads and changes.
type AgentPlace struct {
	// Instance is the cloud's id of the instance in which the agent runs.
	Instance string
	// Below is where the system's disk is mounted; "" for the agent's own system.
	Below string
}

func (p AgentPlace) below() *string {
	if p.Below == "" {
		return nil
	}
	return &p.Below
}

// AgentFile has the guest agent read a file with the rights of the user, without following
// a symbolic link below the home folder; as root where user is "".
func (c *Cloud) AgentFile(ctx context.Context, at AgentPlace, path, user string) (AgentFile, error) {
	params := adapter.ReadAgentFileParams{Path: path, Below: at.below()}
	if user != "" {
		params.User = &user
	}
	return read[AgentFile](c.client.ReadAgentFile(ctx, at.Instance, &params))
}

// WriteAgentFile has the guest agent replace a file whose content is still was, with the
// rights of owner; a new one is made for owner with mode.
func (c *Cloud) WriteAgentFile(
	ctx context.Context, at AgentPlace, path string, was, content []byte, owner string, mode int,
) error {
	_, err := body(c.client.WriteAgentFile(
		ctx, at.Instance, &adapter.WriteAgentFileParams{Path: path, Below: at.below()},
		adapter.AgentWrite{Was: was, Content: content, Owner: owner, Mode: mode},
	))
	return err
}

// Snapshots returns the snapshots and images that were made of instances' disks.
func (c *Cloud) Snapshots(ctx context.Context) ([]Snapshot, error) {
	return read[[]Snapshot](c.client.ListSnapshots(ctx, &adapter.ListSnapshotsParams{}))
}

// MakeSnapshot begins to copy the root disk of an instance. The same token again gives
// the same operation, which names the copy.
func (c *Cloud) MakeSnapshot(ctx context.Context, token, instance, name string, image bool) (Operation, error) {
	kind := adapter.SnapshotKindSnapshot
	if image {
		kind = adapter.SnapshotKindImage
	}
	return read[Operation](
		c.client.MakeSnapshot(ctx, adapter.NewSnapshot{RequestToken: token, Name: name, Instance: instance, Kind: kind}),
	)
}

// SnapshotMade returns the copy that was asked for with the token; ok is false if there
// is none, or none yet.
func (c *Cloud) SnapshotMade(ctx context.Context, token string) (s Snapshot, ok bool, err error) {
	list, err := read[[]Snapshot](c.client.ListSnapshots(ctx, &adapter.ListSnapshotsParams{RequestToken: &token}))
	if err != nil || len(list) == 0 {
		return Snapshot{}, false, err
	}
	return list[0], true, nil
}

// DeleteSnapshot removes a copy; one that is gone already is no error.
func (c *Cloud) DeleteSnapshot(ctx context.Context, id string) error {
	_, err := body(c.client.DeleteSnapshot(ctx, id))
	return err
}

// Disks returns the disks that are attached to an instance.
func (c *Cloud) Disks(ctx context.Context, instance string) ([]Disk, error) {
	return read[[]Disk](c.client.ListDisks(ctx, &adapter.ListDisksParams{Instance: &instance}))
}

// AllDisks returns the disks that there are.
func (c *Cloud) AllDisks(ctx context.Context) ([]Disk, error) {
	return read[[]Disk](c.client.ListDisks(ctx, &adapter.ListDisksParams{}))
}

// Disk returns one disk; ok is false if the cloud does not know it.
func (c *Cloud) Disk(ctx context.Context, id string) (d Disk, ok bool, err error) {
	list, err := read[[]Disk](c.client.ListDisks(ctx, &adapter.ListDisksParams{Disk: &id}))
	if err != nil || len(list) == 0 {
		return Disk{}, false, err
	}
	return list[0], true, nil
}

// Attach begins to attach a disk.
func (c *Cloud) Attach(ctx context.Context, disk string, to Attachment) (Operation, error) {
	return read[Operation](
		c.client.AttachDisk(ctx, disk, adapter.NewAttachment{Instance: to.Instance, Device: to.Device, Root: to.Root}),
	)
}

// Detach begins to detach a disk from an instance.
func (c *Cloud) Detach(ctx context.Context, disk, instance string) (Operation, error) {
	return read[Operation](c.client.DetachDisk(ctx, disk, adapter.Detachment{Instance: instance}))
}

// MoveAddress gives the static address of one instance to another.
func (c *Cloud) MoveAddress(ctx context.Context, from, to string) error {
	_, err := body(c.client.MoveAddress(ctx, from, adapter.AddressMove{To: to}))
	return err
}

// OpenPort adds a firewall rule. The same token again gives the same rule.
func (c *Cloud) OpenPort(ctx context.Context, token, group, source string, port int) (FirewallRule, error) {
	return read[FirewallRule](c.client.AddFirewallRule(
		ctx, adapter.NewFirewallRule{RequestToken: &token, Group: group, Source: source, Port: port},
	))
}

// ClosePort removes a firewall rule; one that is gone already is no error.
func (c *Cloud) ClosePort(ctx context.Context, rule string) error {
	_, err := body(c.client.RemoveFirewallRule(ctx, rule))
	return err
}

// MetadataKeys returns the keys that a process in the guest copies to the logins.
func (c *Cloud) MetadataKeys(ctx context.Context, id string) ([]MetadataKey, error) {
	return read[[]MetadataKey](c.client.GetMetadataKeys(ctx, id))
}

// SetMetadataKeys replaces them.
func (c *Cloud) SetMetadataKeys(ctx context.Context, id string, keys []MetadataKey) error {
	_, err := body(c.client.SetMetadataKeys(ctx, id, keys))
	return err
}

// AgentCommand has the guest agent run a command as root.
func (c *Cloud) AgentCommand(ctx context.Context, id string, command ...string) (CommandResult, error) {
	return read[CommandResult](c.client.RunAgentCommand(ctx, id, adapter.Command{Command: command}))
}

// Shell runs a command as the login user through the browser shell.
func (c *Cloud) Shell(ctx context.Context, id string, input []byte, command ...string) (CommandResult, error) {
	return read[CommandResult](c.client.RunInShell(ctx, id, adapter.Command{Command: command, Input: &input}))
}

// Password returns the administrator's password of a Windows instance, encrypted.
func (c *Cloud) Password(ctx context.Context, id string) (Password, error) {
	return read[Password](c.client.GetPassword(ctx, id))
}

// ResetPassword has the guest agent set another one, encrypted to the RSA key.
func (c *Cloud) ResetPassword(ctx context.Context, id, publicKey string) (Password, error) {
	return read[Password](c.client.ResetPassword(ctx, id, adapter.PasswordReset{PublicKey: publicKey}))
}

// ScheduleFault has a later call go wrong; of the stand-in alone.
func (c *Cloud) ScheduleFault(ctx context.Context, f Fault) error {
	_, err := body(c.client.ScheduleFault(ctx, f))
	return err
}

// ClearFaults takes back the faults that are scheduled.
func (c *Cloud) ClearFaults(ctx context.Context) error {
	_, err := body(c.client.ClearFaults(ctx))
	return err
}

// InstancesPage returns the instances behind the id after, in the order of their ids, at most limit.
func (c *Cloud) InstancesPage(ctx context.Context, after string, limit int) ([]Instance, error) {
	params := adapter.ListInstancesParams{Limit: &limit}
	if after != "" {
		params.After = &after
	}
	return read[[]Instance](c.client.ListInstances(ctx, &params))
}

// InstanceChanges returns what has changed of instances since the place after, at most limit at once. Without one it
// returns the place of now. Changes that are too old to be known are a *RefusedError with the status 410.
func (c *Cloud) InstanceChanges(ctx context.Context, after string, limit int) (InstanceChanges, error) {
	params := adapter.ListInstanceChangesParams{Limit: &limit}
	if after != "" {
		params.After = &after
	}
	return read[InstanceChanges](c.client.ListInstanceChanges(ctx, &params))
}

// KeyPairs returns the cloud's catalogue of named public keys.
func (c *Cloud) KeyPairs(ctx context.Context) (KeyPairs, error) {
	return read[KeyPairs](c.client.ListKeyPairs(ctx))
}

// AddKeyPair puts a public key, in one line, into the catalogue.
func (c *Cloud) AddKeyPair(ctx context.Context, region, name, line string) (KeyPair, error) {
	return read[KeyPair](c.client.AddKeyPair(ctx, adapter.NewKeyPair{Name: name, Region: region, PublicKey: line}))
}

// RemoveKeyPair takes a public key out of the catalogue; one that is gone already is no error.
func (c *Cloud) RemoveKeyPair(ctx context.Context, region, name string) error {
	_, err := body(c.client.RemoveKeyPair(ctx, region, name))
	return err
}

// KeyGroups returns the keys that the cloud hands to every instance of a project, a zone or a group.
func (c *Cloud) KeyGroups(ctx context.Context) ([]KeyGroup, error) {
	return read[[]KeyGroup](c.client.ListKeyGroups(ctx))
}

// SetKeyGroup replaces the keys of a group, which must still be was.
func (c *Cloud) SetKeyGroup(ctx context.Context, group string, was, keys []MetadataKey) error {
	_, err := body(c.client.SetKeyGroup(ctx, group, adapter.KeyGroupChange{Was: was, Keys: keys}))
	return err
}

// TakeGroupKeys has an instance take the keys of its groups, or refuse them.
func (c *Cloud) TakeGroupKeys(ctx context.Context, id string, taken bool) error {
	_, err := body(c.client.TakeGroupKeys(ctx, id, adapter.GroupKeysTaken{Taken: taken}))
	return err
}

// Gone reports whether the cloud says that what was asked for is too old to be known.
func Gone(err error) bool {
	refused, ok := errors.AsType[*RefusedError](err)
	return ok && refused.Status == http.StatusGone
}
