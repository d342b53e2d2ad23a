package restore

import (
	"time"
)

// MetadataKeys hands the key to a process in the guest that places it.
const MetadataKeys Route = "metadata-keys"

var metadataKeysWay = Way{
	Route:   MetadataKeys,
	Title:   "Metadata keys",
	Summary: "The cloud hands the key to a process in the guest, which places it",
	Judge:   Facts.judgeMetadata,
	Bring:   func(Plan) []Step { return []Step{Place, Ask} },
}

func (f Facts) judgeMetadata(o *Option) {
	f.running(o)
	o.Undo = undoLine
	switch {
	case !f.Can.Metadata:
		o.miss("the cloud hands no keys to instances", "")
	case !f.MetadataImage:
		o.miss("no process in its image takes keys from the cloud", "Choose an image with one for its next launch")
	default:
		o.Expected += 10 * time.Second // until the process has looked
		o.Stays = append(o.Stays, "the entry in the instance's metadata: without it the process takes the line out again")
	}
}
