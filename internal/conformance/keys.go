package conformance

import (
	"fmt"
	"net/url"
	"slices"

	"golang.org/x/crypto/ssh"

	"plumlatch/internal/cloud"
	"plumlatch/internal/core/keypair"
	"plumlatch/internal/core/name"
)

func changes(c *check) error {
	if err := c.needs(cloud.CanChanges, "/instance-changes"); err != nil {
		return err
	}
	var now, then cloud.InstanceChanges
	if err := c.get("/instance-changes", &now); err != nil {
		return err
	}
	if now.Next == "" || len(now.Instances) > 0 || now.More {
		return fmt.Errorf("without a place it names %q, and tells of %d instances", now.Next, len(now.Instances))
	}
	if err := c.get("/instance-changes?limit=5&after="+url.QueryEscape(now.Next), &then); err != nil {
		return err
	}
	if then.Next == "" || len(then.Instances) > 5 {
		return fmt.Errorf(
			"from there it names %q, and tells of %d instances where 5 were asked for",
			then.Next,
			len(then.Instances),
		)
	}
	return nil
}

func catalogue(c *check) error {
	if err := c.needs(cloud.CanCatalogue, "/key-pairs"); err != nil {
		return err
	}
	var list cloud.KeyPairs
	if err := c.get("/key-pairs", &list); err != nil {
		return err
	}
	called := func(k cloud.KeyPair) string {
		if k.Name == "" {
			return ""
		}
		return k.Region + " " + k.Name
	}
	return each(list.KeyPairs, called, func(k cloud.KeyPair) error {
		d, ok := keypair.ReadFingerprint(k.Fingerprint)
		if !ok {
			return fmt.Errorf("%q is no fingerprint", k.Fingerprint)
		}
		if k.PublicKey == nil {
			return nil
		}
		public, err := keypair.ReadLine(*k.PublicKey)
		if err != nil {
			return err
		}
		if d.Kind == "sha256" && !slices.Equal(public.SHA256(), d.Sum) {
			return fmt.Errorf(
				"its fingerprint is %s, and that of its public key %s",
				k.Fingerprint,
				keypair.FormatSHA256(public.SHA256()),
			)
		}
		return nil
	})
}

func keyGroups(c *check) error {
	if err := c.needs(cloud.CanGroupKeys, "/key-groups"); err != nil {
		return err
	}
	var list []cloud.KeyGroup
	if err := c.get("/key-groups", &list); err != nil {
		return err
	}
	err := each(list, func(g cloud.KeyGroup) string { return g.Id }, func(g cloud.KeyGroup) error {
		if !slices.Contains([]string{"project", "zone", "group"}, string(g.Kind)) {
			return fmt.Errorf("%q is no kind of group", g.Kind)
		}
		for _, k := range g.Keys {
			if _, _, _, _, err := ssh.ParseAuthorizedKey([]byte(k.Line)); err != nil || name.CheckUser(k.User) != nil {
				return fmt.Errorf("one of its keys is for %q, or has no line that can be read", k.User)
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, i := range c.instances {
		if i.KeyGroups == nil {
			continue
		}
		for _, id := range *i.KeyGroups {
			if !slices.ContainsFunc(list, func(g cloud.KeyGroup) bool { return g.Id == id }) {
				return fmt.Errorf("%s is in the group %q, which is not in the list", i.Id, id)
			}
		}
	}
	return nil
}
