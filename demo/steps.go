package demo

// Step is a command of the demo. One that ends with an '&' goes on beside the others once it has written a line.
type Step struct {
	Command string // without the program's name
	Why     string // "" if it belongs to the one before
}

// Steps are the commands that the demo runs in the workspace, in order.
var Steps = []Step{
	{"lint", "Are the definitions sound?"},
	{"scripts", "What does the script library hold, and who uses it?"},
	{"preview ebb-base", "What would a build do?"},
	{"build ebb-base", "Build the hardened base from field-os"},
	{"tag ebb-base stable", "Children start from ebb-base@stable"},
	{"build turbine-link tide-desk buoy-logger", "Build its three children"},
	{"build turbine-link", "Once more: nothing changed, nothing is built"},
	{"tag turbine-link stable", "Move tags over versions"},
	{"tag tide-desk stable", ""},
	{"tag buoy-logger candidate", ""},
	{"standin --pace 64MiB --import 100ms --faults drop &", "kelp-bay is a site of the simulated cloud: slow, and its line breaks once"},
	{"publish turbine-link@stable", "Place the artifacts in the regions"},
	{"publish tide-desk@stable", ""},
	{"publish buoy-logger@candidate", ""},
	{"verify", "Is everything where it should be?"},
	{"list", "What exists now, and where?"},
	{"manifest turbine-link@stable", "What belongs to each region?"},
	{"locate turbine-link@stable --region north-sound", "The one id that a deploy job needs"},
}
