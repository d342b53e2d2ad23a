package paddock

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"time"

	"go.etcd.io/bbolt"

	"plumlatch/internal/adapter"
)

// Handler serves the adapter contract under /v1.
func (c *Cloud) Handler() http.Handler {
	return adapter.Serve(c.opts.Token, api{c}, adapter.Only(c.capabilities()), c.goWrong)
}

// api answers the calls of the contract.
type api struct{ *Cloud }

func (a api) GetCapabilities(
	context.Context, adapter.GetCapabilitiesRequestObject,
) (adapter.GetCapabilitiesResponseObject, error) {
	return adapter.GetCapabilities200JSONResponse{
		Name:         "paddock (a stand-in cloud)",
		Capabilities: a.capabilities(),
		ShellRange:   new(shellRange.String()),
	}, nil
}

func (a api) ListImages(context.Context, adapter.ListImagesRequestObject) (adapter.ListImagesResponseObject, error) {
	return adapter.ListImages200JSONResponse(images), nil
}

func (a api) ListSizes(context.Context, adapter.ListSizesRequestObject) (adapter.ListSizesResponseObject, error) {
	return adapter.ListSizes200JSONResponse(sizes), nil
}

func (a api) ListZones(context.Context, adapter.ListZonesRequestObject) (adapter.ListZonesResponseObject, error) {
	return adapter.ListZones200JSONResponse(slices.DeleteFunc(slices.Clone(zones), func(z adapter.Zone) bool {
		return a.opts.Region != "" && z.Region != a.opts.Region
	})), nil
}

func (a api) ListInstances(
	_ context.Context, r adapter.ListInstancesRequestObject,
) (adapter.ListInstancesResponseObject, error) {
	after, limit := "", 200
	if r.Params.After != nil {
		after = *r.Params.After
	}
	if r.Params.Limit != nil {
		limit = *r.Params.Limit
	}
	if limit < 1 || limit > 1000 {
		return nil, adapter.BadRequest(fmt.Sprintf("limit is %d; 1 to 1000 are allowed", limit))
	}
	out := adapter.ListInstances200JSONResponse{}
	if r.Params.RequestToken != nil {
		err := a.state.db.View(func(tx *bbolt.Tx) error {
			id, err := get[launched](tx, bucketTokens, *r.Params.RequestToken)
			if err != nil {
				return err
			}
			i, err := get[instance](tx, bucketInstances, id.Instance)
			out = append(out, told(i))
			return err
		})
		if errors.Is(err, adapter.ErrNotFound) {
			return out, nil
		}
		return out, err
	}
	page, err := all[instance](a.state, bucketInstances, after, limit, nil)
	for _, i := range page {
		out = append(out, told(i))
	}
	return out, err
}

// launched is what a request token led to.
type launched struct{ Instance, Operation string }

func (a api) LaunchInstance(
	ctx context.Context, r adapter.LaunchInstanceRequestObject,
) (adapter.LaunchInstanceResponseObject, error) {
	l := *r.Body
	i, err := a.judgeLaunch(l)
	if err != nil {
		return nil, err
	}
	op := a.newOperation(ctx, i.Id, adapter.OperationKindLaunch)
	i.Operation = op.Id
	fresh := true
	err = a.state.db.Update(func(tx *bbolt.Tx) error {
		before, err := get[launched](tx, bucketTokens, l.RequestToken)
		if err == nil {
			fresh = false
			op, err = get[operation](tx, bucketOperations, before.Operation)
			return err
		}
		return cmp.Or(
			put(tx, bucketInstances, i.Id, i),
			put(tx, bucketOperations, op.Id, op),
			put(tx, bucketTokens, l.RequestToken, launched{i.Id, op.Id}))
	})
	if err != nil {
		return nil, err
	}
	if fresh {
		a.run(op)
	}
	return adapter.LaunchInstance202JSONResponse(a.progress(op)), nil
}

func (a api) judgeLaunch(l adapter.Launch) (instance, error) {
	if l.RequestToken == "" || l.Name == "" {
		return instance{}, adapter.BadRequest("request_token and name must be given")
	}
	if _, ok := imageNamed(l.Image); !ok {
		return instance{}, adapter.BadRequest(fmt.Sprintf("there is no image %q", l.Image))
	}
	if sizeNamed(l.Size).Name == "" {
		return instance{}, adapter.BadRequest(fmt.Sprintf("there is no size %q", l.Size))
	}
	zone, ok := zoneNamed(l.Zone)
	if !ok || a.opts.Region != "" && zone.Region != a.opts.Region {
		return instance{}, adapter.BadRequest(fmt.Sprintf("there is no zone %q", l.Zone))
	}
	i := instance{Instance: adapter.Instance{
		Id: newID("i"), Name: l.Name, Image: l.Image, Size: l.Size, Zone: l.Zone, Region: zone.Region,
		State: adapter.InstanceStateLaunching, SshPort: SSHPort, Firewall: "default", LaunchedAt: new(time.Now().UTC()),
	}}
	if l.Firewall != nil && *l.Firewall != "" {
		i.Firewall = *l.Firewall
	}
	if l.KeyLabel != nil {
		i.KeyLabel = *l.KeyLabel
	}
	if l.Labels != nil {
		i.Labels = l.Labels
	}
	if l.StaticAddress != nil {
		i.StaticAddress = *l.StaticAddress
	}
	if l.UserData != nil {
		i.UserData = *l.UserData
	}
	if l.Snapshot != nil && *l.Snapshot != "" {
		s, err := a.state.snapshot(*l.Snapshot)
		if err != nil || s.Kind != adapter.SnapshotKindImage || !s.Done {
			return instance{}, adapter.BadRequest(fmt.Sprintf("there is no copy of the kind image %q", *l.Snapshot))
		}
		i.Copied, i.Image = s.Id, s.Image
	}
	i.Encrypted = l.EncryptedDisk != nil && *l.EncryptedDisk
	i.Device = layouts[i.Image].device
	if len(i.UserData) > 16<<10 {
		return instance{}, adapter.BadRequest(
			fmt.Sprintf("the user-data has %d bytes; %d is the limit", len(i.UserData), 16<<10),
		)
	}
	return i, nil
}

func (a api) GetInstance(
	_ context.Context, r adapter.GetInstanceRequestObject,
) (adapter.GetInstanceResponseObject, error) {
	i, err := a.state.instance(r.Instance)
	if err != nil {
		return nil, fmt.Errorf("instance %s: %w", r.Instance, err)
	}
	return adapter.GetInstance200JSONResponse(told(i)), nil
}

func (a api) DeleteInstance(
	ctx context.Context, r adapter.DeleteInstanceRequestObject,
) (adapter.DeleteInstanceResponseObject, error) {
	if i, err := a.state.instance(r.Instance); err == nil && i.State == adapter.InstanceStateDeleted {
		op, err := a.state.operation(i.Operation)
		return adapter.DeleteInstance202JSONResponse(op.Operation), err
	}
	op, err := a.begin(
		ctx, r.Instance, adapter.OperationKindDelete, adapter.InstanceStateDeleting,
		adapter.InstanceStateLaunching, adapter.InstanceStateRunning, adapter.InstanceStateStopped,
		adapter.InstanceStateFailed, adapter.InstanceStateStarting, adapter.InstanceStateStopping,
	)
	return adapter.DeleteInstance202JSONResponse(a.progress(op)), err
}

func (a api) StartInstance(
	ctx context.Context, r adapter.StartInstanceRequestObject,
) (adapter.StartInstanceResponseObject, error) {
	op, err := a.begin(
		ctx, r.Instance, adapter.OperationKindStart, adapter.InstanceStateStarting, adapter.InstanceStateStopped,
	)
	return adapter.StartInstance202JSONResponse(a.progress(op)), err
}

func (a api) StopInstance(
	ctx context.Context, r adapter.StopInstanceRequestObject,
) (adapter.StopInstanceResponseObject, error) {
	op, err := a.begin(
		ctx, r.Instance, adapter.OperationKindStop, adapter.InstanceStateStopping, adapter.InstanceStateRunning,
	)
	return adapter.StopInstance202JSONResponse(a.progress(op)), err
}

func (a api) GetBootOutput(
	_ context.Context, r adapter.GetBootOutputRequestObject,
) (adapter.GetBootOutputResponseObject, error) {
	i, err := a.state.instance(r.Instance)
	if err != nil {
		return nil, fmt.Errorf("instance %s: %w", r.Instance, err)
	}
	return adapter.GetBootOutput200TextResponse(i.BootOutput), nil
}

func (a api) GetOperation(
	_ context.Context, r adapter.GetOperationRequestObject,
) (adapter.GetOperationResponseObject, error) {
	op, err := a.state.operation(r.Operation)
	if err != nil {
		return nil, fmt.Errorf("operation %s: %w", r.Operation, err)
	}
	return adapter.GetOperation200JSONResponse(a.progress(op)), nil
}

func (a api) ListFirewallRules(
	context.Context, adapter.ListFirewallRulesRequestObject,
) (adapter.ListFirewallRulesResponseObject, error) {
	rules, err := a.state.rules()
	return adapter.ListFirewallRules200JSONResponse(rules), err
}

func (a api) AddFirewallRule(
	_ context.Context, r adapter.AddFirewallRuleRequestObject,
) (adapter.AddFirewallRuleResponseObject, error) {
	if _, err := netip.ParsePrefix(r.Body.Source); err != nil {
		return nil, adapter.BadRequest(
			fmt.Sprintf("source %q is not an address range such as 198.51.100.0/24", r.Body.Source),
		)
	}
	if r.Body.Group == "" || r.Body.Port < 1 || r.Body.Port > 65535 {
		return nil, adapter.BadRequest("a group and a port from 1 to 65535 must be given")
	}
	rule := adapter.FirewallRule{
		Id:           newID("rule"),
		Group:        r.Body.Group,
		Source:       r.Body.Source,
		Port:         r.Body.Port,
		RequestToken: r.Body.RequestToken,
	}
	err := a.state.db.Update(func(tx *bbolt.Tx) error {
		if rule.RequestToken != nil && *rule.RequestToken != "" {
			if before, err := get[adapter.FirewallRule](tx, bucketTokens, "rule "+*rule.RequestToken); err == nil {
				rule = before
				return nil
			}
			if err := put(tx, bucketTokens, "rule "+*rule.RequestToken, rule); err != nil {
				return err
			}
		}
		return put(tx, bucketRules, rule.Id, rule)
	})
	return adapter.AddFirewallRule201JSONResponse(rule), err
}

func (a api) RemoveFirewallRule(
	_ context.Context, r adapter.RemoveFirewallRuleRequestObject,
) (adapter.RemoveFirewallRuleResponseObject, error) {
	err := a.state.db.Update(func(tx *bbolt.Tx) error { return tx.Bucket(bucketRules).Delete([]byte(r.Rule)) })
	return adapter.RemoveFirewallRule204Response{}, err
}
