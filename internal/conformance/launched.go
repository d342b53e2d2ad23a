package conformance

import (
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"github.com/google/uuid"

	"plumlatch/internal/cloud"
)

// pollEvery is how often it is looked how far an operation is.
const pollEvery = 200 * time.Millisecond

// launch launches an instance for the check, twice with the same request token.
func launch(c *check) error {
	if c.o.Launch == "" {
		return errSkip{"nothing is changed in the cloud unless an image is given to launch: -launch IMAGE -size SIZE"}
	}
	var list []cloud.Zone
	if err := c.get("/zones", &list); err != nil {
		return err
	}
	if len(list) == 0 {
		return errors.New("there is no zone to launch in")
	}
	token := uuid.NewString()
	wanted := cloud.Launch{
		RequestToken: token, Name: "check-" + token[:8], Image: c.o.Launch, Size: c.o.Size, Zone: list[0].Name,
	}
	var first, second cloud.Operation
	if err := c.as(http.MethodPost, "/instances", wanted, &first, 202); err != nil {
		return err
	}
	c.launched = first.Instance
	if err := c.as(http.MethodPost, "/instances", wanted, &second, 202); err != nil {
		return err
	}
	var made []cloud.Instance
	if err := c.get("/instances?request_token="+token, &made); err != nil {
		return err
	}
	all, _, err := c.pages(1000, 1000)
	if err != nil {
		return err
	}
	named := 0
	for _, i := range all {
		if i.Name == wanted.Name && i.State != cloud.Deleted {
			named++
			if i.Id != c.launched {
				c.twins = append(c.twins, i.Id)
			}
		}
	}
	switch {
	case first.Id != second.Id || first.Instance != second.Instance:
		return fmt.Errorf("the same token led to the operations %s and %s", first.Id, second.Id)
	case len(made) != 1 || made[0].Id != first.Instance:
		return fmt.Errorf("%d instances go by the token, want one, %s", len(made), first.Instance)
	case named != 1:
		return fmt.Errorf("%d instances have the name %s, want one", named, wanted.Name)
	}
	return c.await(first)
}

// await waits for the end of an operation.
func (c *check) await(op cloud.Operation) error {
	for until := time.Now().Add(c.o.Within); op.State == "running"; {
		if time.Now().After(until) {
			return fmt.Errorf("the operation %s has not ended after %s", op.Id, c.o.Within)
		}
		select {
		case <-c.ctx.Done():
			return c.ctx.Err()
		case <-time.After(pollEvery):
		}
		if err := c.get("/operations/"+url.PathEscape(op.Id), &op); err != nil {
			return err
		}
	}
	if op.State != "done" {
		return fmt.Errorf("the operation %s is %s", op.Id, op.State)
	}
	return nil
}

// ours is what was launched for the check, as it is now.
func (c *check) ours() (i cloud.Instance, err error) {
	if c.launched == "" {
		return i, errSkip{"nothing was launched for the check"}
	}
	return i, c.get("/instances/"+url.PathEscape(c.launched), &i)
}

func launchEnds(c *check) error {
	i, err := c.ours()
	if err != nil {
		return err
	}
	if i.State != cloud.Running || i.PublicAddress == "" && i.PrivateAddress == "" {
		return fmt.Errorf("%s is %s, with the address %q", i.Id, i.State, i.PublicAddress)
	}
	return nil
}

func stop(c *check) error  { return c.twice("stop", cloud.Stopped) }
func start(c *check) error { return c.twice("start", cloud.Running) }

// twice asks for a state twice, and sees that it comes about.
func (c *check) twice(what string, end cloud.InstanceState) error {
	if _, err := c.ours(); err != nil {
		return err
	}
	path := "/instances/" + url.PathEscape(c.launched) + "/" + what
	if err := c.needs(cloud.CanStartStop, path); err != nil {
		return err
	}
	for range 2 {
		var op cloud.Operation
		if err := c.as(http.MethodPost, path, nil, &op, 202); err != nil {
			return err
		}
		if err := c.await(op); err != nil {
			return err
		}
	}
	i, err := c.ours()
	if err == nil && i.State != end {
		err = fmt.Errorf("after two of %s it is %s, want %s", what, i.State, end)
	}
	return err
}

func end(c *check) error {
	if _, err := c.ours(); err != nil {
		return err
	}
	for _, twin := range c.twins { // which should not be there
		if _, err := c.ask(http.MethodDelete, "/instances/"+url.PathEscape(twin), nil); err != nil {
			return err
		}
	}
	path := "/instances/" + url.PathEscape(c.launched)
	for range 2 {
		var op cloud.Operation
		if err := c.as(http.MethodDelete, path, nil, &op, 202); err != nil {
			return err
		}
		if err := c.await(op); err != nil {
			return err
		}
	}
	a, err := c.ask(http.MethodGet, path, nil)
	if err != nil || a.status == 404 {
		return err
	}
	i, err := c.ours()
	if err == nil && i.State != cloud.Deleted {
		err = fmt.Errorf("it was ended, and is %s", i.State)
	}
	return err
}
