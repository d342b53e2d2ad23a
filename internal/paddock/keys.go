package paddock

import (
	"bytes"
	"context"
	"crypto/md5" // the notation of the stand-in's catalogue, not a protection
	"crypto/x509"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.etcd.io/bbolt"
	"golang.org/x/crypto/ssh"

	"plumlatch/internal/adapter"
)

// keyQuota is how many named keys there may be in a region.
const keyQuota = 50

// told is an instance as the cloud tells of it.
func told(i instance) adapter.Instance {
	out := i.Instance
	out.KeyGroups, out.TakesGroupKeys = new(groupsOf(i)), new(takesGroupKeys(i))
	return out
}

// groupsOf are the groups whose keys an instance is handed: those of the project, of its zone and of its firewall
// group.
func groupsOf(i instance) []string {
	return []string{"project", "zone." + i.Zone, "group." + i.Firewall}
}

func takesGroupKeys(i instance) bool {
	image, _ := imageNamed(i.Image)
	return image.MetadataKeys != nil && *image.MetadataKeys && !i.RefusesGroupKeys
}

// keysFor are the entries that the process in the guest honours: its own, and those of its groups where it takes them.
func (c *Cloud) keysFor(i instance) ([]adapter.MetadataKey, error) {
	out := slices.Clone(i.MetadataKeys)
	if !takesGroupKeys(i) {
		return out, nil
	}
	err := c.state.db.View(func(tx *bbolt.Tx) error {
		for _, id := range groupsOf(i) {
			keys, err := groupKeys(tx, id)
			if err != nil {
				return err
			}
			for _, k := range keys {
				if !slices.Contains(out, k) {
					out = append(out, k)
				}
			}
		}
		return nil
	})
	return out, err
}

// groupKeys are those of a group; none where it has none.
func groupKeys(tx *bbolt.Tx, id string) ([]adapter.MetadataKey, error) {
	if tx.Bucket(bucketGroups).Get([]byte(id)) == nil {
		return []adapter.MetadataKey{}, nil
	}
	return get[[]adapter.MetadataKey](tx, bucketGroups, id)
}

func (a api) ListKeyGroups(
	context.Context, adapter.ListKeyGroupsRequestObject,
) (adapter.ListKeyGroupsResponseObject, error) {
	instances, err := a.state.instances()
	if err != nil {
		return nil, err
	}
	ids := map[string]bool{"project": true, "group.default": true}
	for _, z := range zones {
		if a.opts.Region == "" || z.Region == a.opts.Region {
			ids["zone."+z.Name] = true
		}
	}
	for _, i := range instances {
		if i.State != adapter.InstanceStateDeleted {
			ids["group."+i.Firewall] = true
		}
	}
	out := adapter.ListKeyGroups200JSONResponse{}
	err = a.state.db.View(func(tx *bbolt.Tx) error {
		for _, id := range slices.Sorted(maps.Keys(ids)) {
			keys, err := groupKeys(tx, id)
			if err != nil {
				return err
			}
			kind, name, _ := strings.Cut(id, ".")
			if name == "" {
				name = "the whole project"
			}
			out = append(out, adapter.KeyGroup{Id: id, Name: name, Kind: adapter.KeyGroupKind(kind), Keys: keys})
		}
		return nil
	})
	return out, err
}

func (a api) SetKeyGroup(
	_ context.Context, r adapter.SetKeyGroupRequestObject,
) (adapter.SetKeyGroupResponseObject, error) {
	if err := checkEntries(r.Body.Keys); err != nil {
		return nil, err
	}
	if kind, _, _ := strings.Cut(r.Group, "."); !slices.Contains([]string{"project", "zone", "group"}, kind) {
		return nil, fmt.Errorf("group %s: %w", r.Group, adapter.ErrNotFound)
	}
	err := a.state.db.Update(func(tx *bbolt.Tx) error {
		now, err := groupKeys(tx, r.Group)
		if err != nil || slices.Equal(now, r.Body.Keys) {
			return err
		}
		if !slices.Equal(now, r.Body.Was) {
			return adapter.Conflict("the keys of " + r.Group + " are not what they were said to be")
		}
		return put(tx, bucketGroups, r.Group, r.Body.Keys)
	})
	if err == nil {
		a.copyLater(func(i instance) bool { return slices.Contains(groupsOf(i), r.Group) })
	}
	return adapter.SetKeyGroup204Response{}, err
}

func (a api) TakeGroupKeys(
	_ context.Context, r adapter.TakeGroupKeysRequestObject,
) (adapter.TakeGroupKeysResponseObject, error) {
	i, err := a.state.instance(r.Instance)
	if err != nil {
		return nil, fmt.Errorf("instance %s: %w", r.Instance, err)
	}
	if image, _ := imageNamed(i.Image); r.Body.Taken && (image.MetadataKeys == nil || !*image.MetadataKeys) {
		return nil, adapter.Conflict(i.Name + " has no process that takes the keys of its groups")
	}
	if err := a.changeInstance(i.Id, func(i *instance) { i.RefusesGroupKeys = !r.Body.Taken }); err != nil {
		return nil, err
	}
	a.copyLater(func(o instance) bool { return o.Id == i.Id })
	return adapter.TakeGroupKeys204Response{}, nil
}

// copyLater has the processes in the guests of some instances look at their keys, within seconds.
func (c *Cloud) copyLater(which func(instance) bool) {
	c.work.Add(1)
	go func() {
		defer c.work.Done()
		select {
		case <-c.ctx.Done():
			return
		case <-time.After(c.opts.Latency.Metadata):
		}
		instances, err := c.state.instances()
		if err != nil {
			c.log.Error("copy group keys", "err", err)
		}
		for _, i := range instances {
			if which(i) {
				c.copyMetadataKeys(i.Id)
			}
		}
	}()
}

// RebuildInstance sets the root disk of a stopped instance up anew: its next start is its first boot.
func (a api) RebuildInstance(
	_ context.Context, r adapter.RebuildInstanceRequestObject,
) (adapter.RebuildInstanceResponseObject, error) {
	defer a.lock(r.Instance)()
	i, err := a.state.instance(r.Instance)
	if err != nil {
		return nil, fmt.Errorf("instance %s: %w", r.Instance, err)
	}
	if i.State != adapter.InstanceStateStopped {
		return nil, adapter.Conflict(i.Name + " is " + string(i.State) + ", so it cannot be set up anew")
	}
	d, err := a.openDisk(i.Id)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	for _, folder := range []string{"etc", "home", "root", "srv", "usr", "var"} {
		if err := d.Root.RemoveAll(folder); err != nil {
			return nil, err
		}
	}
	image, _ := imageNamed(i.Image)
	if err := a.makeDisk(i, image); err != nil {
		return nil, err
	}
	return adapter.RebuildInstance204Response{}, a.changeInstance(i.Id, func(i *instance) {
		i.Booted, i.PlacedKeys, i.RebuiltAt = false, nil, new(time.Now().UTC())
	})
}

func (a api) ListKeyPairs(
	context.Context, adapter.ListKeyPairsRequestObject,
) (adapter.ListKeyPairsResponseObject, error) {
	list, err := all[adapter.KeyPair](a.state, bucketKeyPairs, "", noLimit, nil)
	return adapter.ListKeyPairs200JSONResponse{KeyPairs: list, Quota: new(keyQuota)}, err
}

func (a api) AddKeyPair(
	_ context.Context, r adapter.AddKeyPairRequestObject,
) (adapter.AddKeyPairResponseObject, error) {
	public, _, _, _, err := ssh.ParseAuthorizedKey([]byte(r.Body.PublicKey))
	if err != nil || strings.ContainsAny(r.Body.Name, "\n\x00") || r.Body.Name == "" {
		return nil, adapter.BadRequest("a name and a public key in one line must be given")
	}
	if !slices.ContainsFunc(zones, func(z adapter.Zone) bool {
		return z.Region == r.Body.Region && (a.opts.Region == "" || z.Region == a.opts.Region)
	}) {
		return nil, adapter.BadRequest(fmt.Sprintf("there is no region %q", r.Body.Region))
	}
	k := adapter.KeyPair{
		Name: r.Body.Name, Region: r.Body.Region, Fingerprint: notation(public), CreatedAt: new(time.Now().UTC()),
		PublicKey: new(strings.TrimSpace(string(ssh.MarshalAuthorizedKey(public)))),
	}
	err = a.state.db.Update(func(tx *bbolt.Tx) error {
		at := k.Region + "\x00" + k.Name
		before, err := get[adapter.KeyPair](tx, bucketKeyPairs, at)
		switch {
		case err == nil && before.Fingerprint == k.Fingerprint:
			k = before
			return nil
		case err == nil:
			return adapter.Conflict(k.Name + " is another key")
		}
		there := 0
		c := tx.Bucket(bucketKeyPairs).Cursor()
		for key, _ := c.Seek([]byte(k.Region + "\x00")); bytes.HasPrefix(key, []byte(k.Region+"\x00")); key, _ = c.Next() {
			there++
		}
		if there >= keyQuota {
			return adapter.Conflict(fmt.Sprintf("the quota of %d named keys in %s is used up", keyQuota, k.Region))
		}
		return put(tx, bucketKeyPairs, at, k)
	})
	return adapter.AddKeyPair201JSONResponse(k), err
}

func (a api) RemoveKeyPair(
	_ context.Context, r adapter.RemoveKeyPairRequestObject,
) (adapter.RemoveKeyPairResponseObject, error) {
	return adapter.RemoveKeyPair204Response{}, a.state.db.Update(func(tx *bbolt.Tx) error {
		return tx.Bucket(bucketKeyPairs).Delete([]byte(r.Region + "\x00" + r.Name))
	})
}

// notation is how the catalogue writes a fingerprint: RSA keys by MD5 over the DER form, others by SHA-256.
func notation(k ssh.PublicKey) string {
	if crypto, ok := k.(ssh.CryptoPublicKey); ok && k.Type() == ssh.KeyAlgoRSA {
		if der, err := x509.MarshalPKIXPublicKey(crypto.CryptoPublicKey()); err == nil {
			sum := md5.Sum(der)
			var out []string
			for _, b := range sum {
				out = append(out, hex.EncodeToString([]byte{b}))
			}
			return strings.Join(out, ":")
		}
	}
	return ssh.FingerprintSHA256(k)
}

// noteChange remembers that an instance has changed, in the place of an earlier change of it.
func noteChange(tx *bbolt.Tx, id string) error {
	log, of := tx.Bucket(bucketChanges), tx.Bucket(bucketChangeOf)
	if before := of.Get([]byte(id)); before != nil {
		if err := log.Delete(before); err != nil {
			return err
		}
	}
	n, err := log.NextSequence()
	if err != nil {
		return err
	}
	place := binary.BigEndian.AppendUint64(nil, n)
	if err := log.Put(place, []byte(id)); err != nil {
		return err
	}
	return of.Put([]byte(id), place)
}

func (a api) ListInstanceChanges(
	_ context.Context, r adapter.ListInstanceChangesRequestObject,
) (adapter.ListInstanceChangesResponseObject, error) {
	limit := 200
	if r.Params.Limit != nil {
		limit = *r.Params.Limit
	}
	if limit < 1 || limit > 1000 {
		return nil, adapter.BadRequest(fmt.Sprintf("limit is %d; 1 to 1000 are allowed", limit))
	}
	out := adapter.ListInstanceChanges200JSONResponse{Instances: []adapter.Instance{}}
	err := a.state.db.View(func(tx *bbolt.Tx) error {
		log := tx.Bucket(bucketChanges)
		last := log.Sequence()
		out.Next = strconv.FormatUint(last, 10)
		if r.Params.After == nil || *r.Params.After == "" {
			return nil
		}
		after, err := strconv.ParseUint(*r.Params.After, 10, 64)
		if err != nil || after > last {
			return adapter.ErrGone
		}
		c := log.Cursor()
		place, id := c.Seek(binary.BigEndian.AppendUint64(nil, after+1))
		for ; place != nil && len(out.Instances) < limit; place, id = c.Next() {
			i, err := get[instance](tx, bucketInstances, string(id))
			if err != nil {
				return err
			}
			out.Instances = append(out.Instances, told(i))
			out.Next = strconv.FormatUint(binary.BigEndian.Uint64(place), 10)
		}
		if out.More = place != nil; !out.More {
			out.Next = strconv.FormatUint(last, 10)
		}
		return nil
	})
	return out, err
}
