package finding

// Entry is one kind of finding: its name for ever, its usual severity, and why it
// matters, as a clause. The package that finds it has it in its Catalogue.
type Entry struct {
	ID       ID
	Severity Severity
	Why      string
}
