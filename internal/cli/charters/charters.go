// Package charters has the commands about charters: files in which a team declares its keys, its instances and who may
// open what.
package charters

import (
	"slices"

	"plumlatch/internal/cli/kit"
)

// Commands are about charters.
func Commands() []kit.Command { return slices.Concat(charterCommands, signCommands) }

var charterCommands = []kit.Command{
	{
		Name: "charter check", NoNames: true, Args: "FILE ...", Min: 1, Max: -1, Flags: check,
		Summary: "Check the files of a charter on this machine, without a service",
		Detail: `It checks the form, the names and the public keys, and says what is wrong with line and column. In a
folder all .yaml, .yml and .json files are read. It ends with status 3 where something is wrong.`,
		Examples: []string{"plumlatch charter check field.yaml"},
	},
	{
		Name: "charter schema", NoNames: true, Flags: schema,
		Summary:  "Print the JSON Schema of a charter's files, for editors",
		Examples: []string{"plumlatch charter schema > charter.schema.json"},
	},
	{
		Name: "charter compare", NoNames: true, Args: "[FILE ...]", Max: -1, Flags: compare,
		Summary: "Show what differs between a charter and what there is",
		Detail: `It ends with status 3 where something differs, with 1 where the files are flawed, and with 5 where a login
would be left less safe than a charter may leave it. -markdown prints a comment for a review. Nothing is changed.`,
		Examples: []string{
			"plumlatch charter compare field.yaml",
			"plumlatch charter compare -settled field",
		},
	},
	{
		Name: "charter settle", NoNames: true, Args: "FILE ...", Min: 1, Max: -1, Flags: settle,
		Summary: "Make what a charter declares so",
		Detail: `It shows what differs, asks, and does it: what lets somebody in first, then what keeps somebody out. All
changes are judged together, and nothing is done where a login would be left shut, or thin without may-be. With -as just
the comparison with that id is settled, and refused if anything has changed since. Repeating it changes nothing.`,
		Examples: []string{
			"plumlatch charter settle field.yaml -reason 'oona joins the field team'",
			"plumlatch charter settle field -as ID -yes",
		},
	},
	{
		Name: "charter write", NoNames: true, Args: "NAME", Min: 1, Max: 1, Flags: write,
		Summary: "Write who may open what, as it is now, as a charter",
		Detail:  `Settling what it writes changes no line: it makes the grants the charter's own.`,
		Examples: []string{
			"plumlatch charter write fleet -into fleet.yaml",
			"plumlatch charter write field -label team=field",
		},
	},
	{
		Name: "charter list", Flags: list,
		Summary:  "List the charters, and what differs from each",
		Examples: []string{"plumlatch charter list"},
	},
	{
		Name: "charter show", Args: "CHARTER", Min: 1, Max: 1, Flags: show,
		Summary: "Show a charter, its versions, and who settled each and why",
		Detail: `-files prints the files as they were settled; -version chooses an earlier version. -against prints what
changed in them, as a unified diff.`,
		Examples: []string{"plumlatch charter show field", "plumlatch charter show field -against 1"},
	},
	{
		Name: "charter changes", Args: "CHARTER", Min: 1, Max: 1, Flags: changes,
		Summary:  "Show the changes of the last settlement of a charter, and how far each is",
		Examples: []string{"plumlatch charter changes field", "plumlatch charter changes field -state failed"},
	},
	{
		Name: "charter watch", Args: "CHARTER", Min: 1, Max: 1, Flags: watchIt,
		Summary:  "Follow the settlement of a charter until it is over",
		Examples: []string{"plumlatch charter watch field"},
	},
	{
		Name: "charter pause", Args: "CHARTER", Min: 1, Max: 1, Flags: pause(false),
		Summary:  "Pause the settlement of a charter; no further changes start",
		Examples: []string{"plumlatch charter pause field -reason 'a storm'"},
	},
	{
		Name: "charter resume", Args: "CHARTER", Min: 1, Max: 1, Flags: pause(true),
		Summary:  "Continue the settlement of a charter that was paused",
		Examples: []string{"plumlatch charter resume field"},
	},
	{
		Name: "charter undo", Args: "CHARTER", Min: 1, Max: 1, Flags: undo,
		Summary: "Take the last settlement of a charter back",
		Detail: `What it placed is withdrawn, what it withdrew is put back as it was, and the version before counts again.
Keys that it imported and instances that it launched stay.`,
		Examples: []string{"plumlatch charter undo field -reason 'the wrong file'"},
	},
	{
		Name: "charter release", Args: "CHARTER", Min: 1, Max: 1, Flags: release,
		Summary:  "Let a charter go; what it owned stays as it is, as if it had been done by hand",
		Examples: []string{"plumlatch charter release field -reason 'the team is gone'"},
	},
}
