package rules

import (
	"bytes"
	"encoding/json"
	"fmt"
	"time"

	"plumlatch/internal/core/rotation"
	"plumlatch/internal/service/rotate"
)

// ruleVersion is the version of the form in which rotation rules are kept.
const ruleVersion = 1

// ruleText is what a rotation rule selects, as it is kept: a form of its own, so that no name in the code
// changes what a rule means.
type ruleText struct {
	Version      int           `json:"version"`
	Keys         []string      `json:"keys,omitempty"`
	Holder       string        `json:"holder,omitempty"`
	Type         string        `json:"type,omitempty"`
	OlderSeconds int64         `json:"older_seconds,omitempty"`
	Weaker       string        `json:"weaker,omitempty"`
	Lost         bool          `json:"lost,omitempty"`
	Shared       bool          `json:"shared,omitempty"`
	Instances    []string      `json:"instances,omitempty"`
	LabelName    string        `json:"label_name,omitempty"`
	LabelText    string        `json:"label_text,omitempty"`
	Region       string        `json:"region,omitempty"`
	Each         rotation.Each `json:"each,omitempty"`
	Names        string        `json:"names,omitempty"`
	FromHere     bool          `json:"from_here,omitempty"`
	Wait         bool          `json:"wait,omitempty"`
}

// earlierRule is the form of the version 0, which had the names that the code had then.
type earlierRule struct {
	Keys                 []string
	Holder, Type, Weaker string
	Older                time.Duration
	Lost, Shared         bool
	Instances            []string
	LabelName, LabelText string
	Region, To           string
	Each                 rotation.Each
	FromHere, Urgent     bool
	Wait                 bool
}

func writeRule(w rotate.RotationWanted) (json.RawMessage, error) {
	return json.Marshal(ruleText{
		Version:      ruleVersion,
		Keys:         w.Keys,
		Holder:       w.Holder,
		Type:         w.Type,
		OlderSeconds: int64(w.Older / time.Second),
		Weaker:       w.Weaker,
		Lost:         w.Lost,
		Shared:       w.Shared,
		Instances:    w.Instances,
		LabelName:    w.LabelName,
		LabelText:    w.LabelText,
		Region:       w.Region,
		Each:         w.Each,
		Names:        w.Names,
		FromHere:     w.FromHere,
		Wait:         w.Wait,
	})
}

// readRule reads a rule. What it does not know is an error: a filter that is left out would have the rule
// replace more than it was to.
func readRule(text json.RawMessage) (rotate.RotationWanted, error) {
	var head struct {
		Version int `json:"version"`
	}
	if err := json.Unmarshal(text, &head); err != nil {
		return rotate.RotationWanted{}, err
	}
	strict := json.NewDecoder(bytes.NewReader(text))
	strict.DisallowUnknownFields()
	switch head.Version {
	case 0:
		var r earlierRule
		err := strict.Decode(&r)
		return rotate.RotationWanted{
			Selection: rotation.Selection{
				Keys:   r.Keys,
				Holder: r.Holder,
				Type:   r.Type,
				Older:  r.Older,
				Weaker: r.Weaker,
				Lost:   r.Lost,
				Shared: r.Shared,
			},
			Instances: r.Instances,
			LabelName: r.LabelName,
			LabelText: r.LabelText,
			Region:    r.Region,
			Each:      r.Each,
			To:        r.To,
			FromHere:  r.FromHere,
			Urgent:    r.Urgent,
			Wait:      r.Wait,
		}, err
	case ruleVersion:
		var r ruleText
		err := strict.Decode(&r)
		return rotate.RotationWanted{
			Selection: rotation.Selection{
				Keys:   r.Keys,
				Holder: r.Holder,
				Type:   r.Type,
				Older:  time.Duration(r.OlderSeconds) * time.Second,
				Weaker: r.Weaker,
				Lost:   r.Lost,
				Shared: r.Shared,
			},
			Instances: r.Instances,
			LabelName: r.LabelName,
			LabelText: r.LabelText,
			Region:    r.Region,
			Each:      r.Each,
			Names:     r.Names,
			FromHere:  r.FromHere,
			Wait:      r.Wait,
		}, err
	}
	return rotate.RotationWanted{}, fmt.Errorf(
		"it has the version %d, and this program knows no later one than %d", head.Version, ruleVersion,
	)
}
