package inventory

// Called is by which words a device is named, for a script that keeps them.
type Called struct {
	Word   string   // what a command takes, on this machine
	Stable bool     // it means the same device after a reboot, whatever the kernel calls that
	Also   []string // other words that do, for as long as what is on the device stays
	Lose   string   // what is typed to have what is on it destroyed; empty where nothing would be lost
}
