package restore

// Step is one step of a restore.
type Step string

// The steps.
const (
	// Look writes down the state of the instance; its undo, the last of all, finds
	// what is different after a restore that was undone.
	Look Step = "look"
	// Permit permits the guest agent and waits until it answers; Forbid takes that back.
	Permit Step = "permit-agent"
	Forbid Step = "forbid-agent"
	// OpenPort lets the cloud's own range in to the SSH port; ClosePort ends that.
	OpenPort  Step = "open-port"
	ClosePort Step = "close-port"
	// Place brings the new key's line to its place.
	Place Step = "place"
	// Ask sees that the SSH server shows the pinned host key and accepts the new key.
	Ask Step = "ask"

	// Helper makes an instance to attach the disk to; DropHelper ends it.
	Helper     Step = "helper"
	DropHelper Step = "drop-helper"
	// StopIt and StartIt stop and start the instance.
	StopIt  Step = "stop"
	StartIt Step = "start"
	// Detach takes the root disk off the instance, Lend attaches it to the helper, Mount
	// mounts it; Unmount, Fetch and Reattach are the way back, under its own device name.
	DetachRoot Step = "detach"
	Lend       Step = "lend"
	Mount      Step = "mount"
	Unmount    Step = "unmount"
	Fetch      Step = "fetch"
	Reattach   Step = "reattach"

	// Image copies the disk; LaunchNew launches the other instance from the copy; Check
	// sees that its services are up; MoveAddress gives it the static address; StopOld
	// stops the previous one.
	Image       Step = "image"
	LaunchNew   Step = "launch"
	Check       Step = "check"
	MoveAddress Step = "move-address"
	StopOld     Step = "stop-old"

	// Reset sets the administrator's password; Open decrypts it where the private key is.
	Reset Step = "reset"
	Open  Step = "open"

	// Enter completes a login with the new key. It comes before every removal.
	Enter Step = "enter"
	// PasswordOff turns password login off.
	PasswordOff Step = "password-off"
	// Remove takes the lost keys' lines out; See finds that they are refused.
	Remove Step = "remove"
	See    Step = "see"
	// Settle finds that nothing that was opened or made for this is left.
	Settle Step = "settle"
)

// Plan is what the steps of a way depend on.
type Plan struct {
	// Permits is whether the guest agent has to be permitted for this, Opens whether the
	// SSH port has to be opened to the browser shell.
	Permits, Opens bool
	// Lost is whether the line of a lost key is to go.
	Lost bool
	// Static is whether a static address is moved, StopFirst whether a replaced instance
	// is stopped before its image is made, Checks whether services of the new one are
	// waited for.
	Static, StopFirst, Checks bool
}
