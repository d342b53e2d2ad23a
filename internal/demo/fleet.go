// Package demo is the sample fleet of the made-up Wrackline Observatory: a
// coastal bird observatory with cameras in hides, tide gauges, a ringing database,
// a migration atlas on the web and field gateways. Every name and key is made up.
//
// It holds one of each trouble that the product is for. What really stands on the
// instances and what the records say are laid out apart, so that they can differ.
package demo

import (
	"fmt"

	"plumlatch/internal/core/keypair"
)

// person is an operator with an account in the demo.
type person struct {
	name, title, role string
}

var staff = []person{
	{"ines", "Ines Varga, head of data", "admin"},
	{"marek", "Marek Sol, atlas developer", "operator"},
	{"oona", "Oona Lind, field engineer", "operator"},
	{"sunniva", "Sunniva Dahl, ringing office", "viewer"},
	{"tomas", "Tomas Reyes, field engineer (left in September)", "viewer"},
}

var teams = []struct{ name, title string }{
	{"team-atlas", "Migration atlas team"},
	{"team-field", "Field technicians"},
}

// members are who is in which team.
var members = [][2]string{{"team-atlas", "marek"}, {"team-field", "oona"}}

// key is a key pair of the sample.
type key struct {
	name    string
	spec    keypair.Spec
	comment string
	holder  string
	purpose string
	labels  map[string]string
	age     int  // days since it was made
	atHand  bool // whether the demo writes its private key, as if it were on your laptop
	proved  int  // days since somebody last showed that they hold it; 0 for never
}

// weakRSA marks a key of 1024 bits, which the product itself would never make.
const weakRSA = 1024

var keys = []key{
	{
		name:    "hides-shared",
		spec:    keypair.Spec{Type: keypair.RSA, Bits: 2048},
		comment: "hides",
		holder:  "team-field",
		purpose: "one key for all hide cameras",
		labels:  map[string]string{"team": "cameras"},
		age:     88,
		atHand:  true,
		proved:  41,
	},
	{
		name:    "ines-main",
		spec:    keypair.Spec{},
		comment: "ines@wrackline-mb2",
		holder:  "ines",
		purpose: "everyday key",
		age:     90,
		atHand:  true,
		proved:  5,
	},
	{
		name:    "marek-main",
		spec:    keypair.Spec{Type: keypair.ECDSA, Bits: 256},
		comment: "marek@puffin",
		holder:  "marek",
		purpose: "everyday key",
		age:     84,
		atHand:  true,
		proved:  9,
	},
	{
		name:    "oona-main",
		spec:    keypair.Spec{},
		comment: "oona@field-tablet",
		holder:  "oona",
		purpose: "everyday key",
		age:     80,
		atHand:  true,
		proved:  12,
	},
	{
		name:    "tomas-laptop",
		spec:    keypair.Spec{},
		comment: "tomas@thinkpad",
		holder:  "tomas",
		purpose: "everyday key",
		age:     86,
		proved:  75,
	},
	{
		name:    "id_rsa_2",
		spec:    keypair.Spec{Type: keypair.RSA, Bits: weakRSA},
		comment: "sunniva@old-desktop",
		holder:  "sunniva",
		purpose: "",
		age:     90,
	},
	{
		name:    "atlas-deploy",
		spec:    keypair.Spec{},
		comment: "atlas deploy",
		holder:  "team-atlas",
		purpose: "deploys of the migration atlas",
		labels:  map[string]string{"team": "atlas"},
		age:     60,
		atHand:  true,
		proved:  3,
	},
	{
		name:    "atlas-old",
		spec:    keypair.Spec{Type: keypair.RSA, Bits: 2048},
		comment: "atlas 2024",
		holder:  "team-atlas",
		purpose: "deploys, before atlas-deploy",
		labels:  map[string]string{"team": "atlas"},
		age:     89,
	},
	{
		name:    "gateway-field",
		spec:    keypair.Spec{},
		comment: "gateways",
		holder:  "team-field",
		purpose: "field gateways",
		labels:  map[string]string{"team": "field"},
		age:     70,
		atHand:  true,
		proved:  50,
	},
	{
		name:    "office-windows",
		spec:    keypair.Spec{Type: keypair.RSA, Bits: 3072},
		comment: "office windows",
		holder:  "ines",
		purpose: "the office machine takes RSA only",
		age:     45,
		atHand:  true,
		proved:  33,
	},
	{
		name:    "archive-song",
		spec:    keypair.Spec{Type: keypair.ECDSA, Bits: 384},
		comment: "archive",
		holder:  "marek",
		purpose: "bird song archive",
		age:     30,
		atHand:  true,
		proved:  20,
	},
	{
		name:    "sunniva-spare",
		spec:    keypair.Spec{},
		comment: "sunniva@spare",
		holder:  "sunniva",
		purpose: "spare, opens nothing yet",
		age:     12,
	},
}

// stranger is a key that is on a machine and in no record.
const stranger = "(stranger)"

// The sightings that the records hold of a granted key.
const (
	seen = iota
	notSeen
	neverLooked
)

// grant is a key that the records say should open an instance.
type grant struct {
	key  string
	look int
}

// machine is an instance of the sample.
type machine struct {
	name, image, size, zone string
	labels                  map[string]string
	label                   string   // the key that the cloud names beside it
	onDisk                  []string // what really is in authorized_keys
	grants                  []grant  // what the records say
	static                  bool
	age                     int // days since its launch
	by                      string
	steward                 bool // whether it has a steward key
	agent                   bool // whether its guest agent is permitted
	firewall                string
	// until says in how many days grants of which keys end; past names keys whose
	// grants were withdrawn.
	until map[string]int
	past  []string
	// shed is whether it is a machine of no cloud, in the boat shed; via is the machine by way of which it is reached.
	shed bool
	via  string
}

// pierRules is the group of firewall rules of the tide gauges, which lets in where the
// observatory comes from and nobody else. The default group is open to everybody.
const (
	pierRules  = "pier"
	pierSource = "127.0.0.1/32"
)

// copies are the snapshots and images that were made of the fleet's disks.
var copies = []struct {
	name, machine string
	image         bool
}{
	{
		"ringing-db-before-upgrade",
		"ringing-db",
		false,
	}, {"atlas-db-spring", "atlas-db", false},
	{"hide-cam-golden", "hide-cam-1", true},
	{"gateway-field-kit", "gateway-1", true},
}

// innerRules is the group of firewall rules of what is behind a jump host: it lets in that alone.
const innerRules = "inner"

// shed are machines of no cloud: boards and a desk computer in the boat shed, which a stand-in of their own plays.
var shed = []machine{
	{
		name: "boat-logger", image: "debian-12", size: "small", zone: "north-shore-a", shed: true,
		labels: map[string]string{"team": "field", "site": "boat-shed"}, onDisk: []string{"oona-main"},
		grants: []grant{{"oona-main", seen}}, age: 40, by: "oona", steward: true,
	},
	{
		name: "visitor-kiosk", image: "debian-12", size: "small", zone: "north-shore-a", shed: true,
		labels: map[string]string{"team": "office", "site": "boat-shed"}, onDisk: []string{"ines-main"},
		grants: []grant{{"ines-main", seen}}, age: 36, by: "ines",
	},
	{
		name: "nest-recorder", image: "debian-12", size: "small", zone: "north-shore-a", shed: true, via: "gateway-1",
		firewall: innerRules, labels: map[string]string{"team": "field", "site": "islet"},
		onDisk: []string{"oona-main"}, grants: []grant{{"oona-main", seen}}, age: 28, by: "oona", steward: true,
	},
}

// named are keys of the clouds' own catalogues, by region. Those that begin with a parenthesis are in no record.
var named = map[string][]struct{ name, key string }{
	"north-shore": {
		{"hides-shared", "hides-shared"}, {"ines-main", "ines-main"}, {"atlas-old", "atlas-old"},
		{"atlas-deploy", "atlas-deploy"}, {"id_rsa_2", "id_rsa_2"}, {"workshop-2019", stranger},
	},
	"south-marsh": {{"oona", "oona-main"}, {"tern-survey", ternSurvey}, {"gateway-field", "gateway-field"}},
}

// ternSurvey is a key of the people who count terns, which is in no record. The marsh hands it to all its machines.
const ternSurvey = "(tern-survey)"

// unrecorded are machines that run in the second cloud, launched by somebody with another tool.
var unrecorded = []machine{
	{
		name: "tern-cam-1", image: "debian-12", size: "small", zone: "south-marsh-a", label: "tern-survey",
		onDisk: []string{"oona-main"}, by: "debian",
	},
	{
		name: "tern-cam-2", image: "debian-12", size: "small", zone: "south-marsh-a", label: "tern-survey",
		onDisk: []string{"oona-main"}, by: "debian",
	},
	{
		name: "Weir Gauge", image: "ubuntu-24.04", size: "small", zone: "south-marsh-b", label: "weir",
		onDisk: []string{"gateway-field"}, by: "ubuntu",
	},
	{
		name: "tern-counts", image: "ubuntu-24.04", size: "medium", zone: "south-marsh-b", label: "tern-survey",
		onDisk: []string{"oona-main"}, by: "ubuntu",
	},
}

func fleet() []machine {
	var out []machine
	for n := 1; n <= 9; n++ {
		zone := "north-shore-a"
		if n > 6 {
			zone = "south-marsh-a"
		}
		out = append(out, machine{
			name: fmt.Sprintf(
				"hide-cam-%d", n,
			), image: "gateway-os-7",
			size:    "small",
			zone:    zone,
			labels:  map[string]string{"team": "cameras", "site": fmt.Sprintf("hide-%d", n)},
			label:   "hides-shared",
			onDisk:  []string{"hides-shared"},
			grants:  []grant{{"hides-shared", seen}},
			age:     88 - n,
			by:      "oona",
			steward: true,
		})
	}
	for n := 1; n <= 4; n++ {
		m := machine{
			name: fmt.Sprintf(
				"tide-gauge-%d", n,
			), firewall: pierRules,
			image:  "debian-12",
			size:   "small",
			zone:   "north-shore-b",
			labels: map[string]string{"team": "field", "site": fmt.Sprintf("pier-%d", n)},
			label:  "oona-main", onDisk: []string{"oona-main"}, grants: []grant{{"oona-main", seen}}, age: 80 - 3*n, by: "oona",
		}
		if n == 3 { // its only holder has left
			m.label, m.onDisk, m.grants, m.by = "tomas-laptop", []string{
				"tomas-laptop",
			}, []grant{
				{"tomas-laptop", seen},
			}, "tomas"
		} else {
			m.past = []string{"tomas-laptop"}
		}
		out = append(out, m)
	}
	out = append(out, shed...)
	return append(
		out,
		machine{
			name:    "ringing-db",
			image:   "debian-12",
			size:    "medium",
			zone:    "north-shore-a",
			labels:  map[string]string{"team": "ringing", "data": "personal"},
			label:   "id_rsa_2",
			onDisk:  []string{"id_rsa_2", "ines-main"},
			grants:  []grant{{"id_rsa_2", seen}, {"ines-main", seen}},
			age:     85,
			by:      "ines",
			steward: true,
		},
		machine{
			name:    "ringing-web",
			image:   "ubuntu-24.04",
			size:    "small",
			zone:    "north-shore-b",
			labels:  map[string]string{"team": "ringing"},
			label:   "ines-main",
			onDisk:  []string{"ines-main", stranger},
			grants:  []grant{{"ines-main", seen}},
			age:     71,
			by:      "ines",
			steward: true,
		},
		machine{
			name:    "atlas-web-1",
			image:   "ubuntu-24.04",
			size:    "medium",
			zone:    "north-shore-a",
			labels:  map[string]string{"team": "atlas"},
			label:   "atlas-deploy",
			onDisk:  []string{"atlas-deploy", "marek-main"},
			grants:  []grant{{"atlas-deploy", seen}, {"marek-main", seen}},
			age:     58,
			by:      "marek",
			steward: true,
		},
		machine{
			name:    "atlas-web-2",
			image:   "ubuntu-24.04",
			size:    "medium",
			zone:    "north-shore-b",
			labels:  map[string]string{"team": "atlas"},
			label:   "atlas-deploy",
			onDisk:  []string{"atlas-deploy", "marek-main"},
			grants:  []grant{{"atlas-deploy", seen}, {"marek-main", seen}},
			age:     58,
			by:      "marek",
			steward: true,
		},
		machine{
			name:    "atlas-db",
			image:   "fedora-42",
			size:    "large",
			zone:    "north-shore-a",
			labels:  map[string]string{"team": "atlas"},
			label:   "ines-main",
			onDisk:  []string{"ines-main"},
			grants:  []grant{{"ines-main", seen}, {"marek-main", notSeen}},
			age:     57,
			by:      "ines",
			steward: true,
		},
		machine{
			name:    "atlas-tiles",
			image:   "fedora-42",
			size:    "large-scratch",
			zone:    "north-shore-b",
			labels:  map[string]string{"team": "atlas"},
			label:   "atlas-old",
			onDisk:  []string{"ines-main"},
			grants:  []grant{{"ines-main", seen}},
			age:     83,
			by:      "marek",
			steward: true,
		},
		machine{
			name:    "gateway-1",
			image:   "alpine-3.22",
			size:    "small",
			zone:    "south-marsh-a",
			labels:  map[string]string{"team": "field"},
			label:   "gateway-field",
			onDisk:  []string{"gateway-field", "oona-main"},
			grants:  []grant{{"gateway-field", seen}, {"oona-main", seen}},
			age:     68,
			by:      "oona",
			steward: true,
			until:   map[string]int{"oona-main": 21},
		},
		machine{
			name:    "gateway-2",
			image:   "alpine-3.22",
			size:    "small",
			zone:    "south-marsh-a",
			labels:  map[string]string{"team": "field"},
			label:   "gateway-field",
			onDisk:  []string{"gateway-field", "oona-main"},
			grants:  []grant{{"gateway-field", seen}, {"oona-main", seen}},
			age:     67,
			by:      "oona",
			steward: true,
		},
		machine{
			name:   "gateway-3",
			image:  "alpine-3.22",
			size:   "large-scratch",
			zone:   "south-marsh-b",
			labels: map[string]string{"team": "field"},
			label:  "gateway-field",
			onDisk: []string{"gateway-field"},
			grants: []grant{{"gateway-field", neverLooked}},
			age:    20,
			by:     "oona",
		},
		machine{
			name:   "office-windows",
			image:  "windows-2022",
			size:   "medium",
			zone:   "south-marsh-b",
			labels: map[string]string{"team": "office"},
			label:  "office-windows",
			onDisk: []string{"office-windows"},
			grants: []grant{{"office-windows", seen}},
			age:    45,
			by:     "ines",
		},
		machine{
			name:   "song-archive",
			image:  "debian-12",
			size:   "large",
			zone:   "south-marsh-a",
			labels: map[string]string{"team": "atlas"},
			label:  "archive-song",
			onDisk: []string{"archive-song"},
			grants: []grant{{"archive-song", seen}},
			static: true,
			age:    30,
			by:     "marek",
			agent:  true,
		},
	)
}
