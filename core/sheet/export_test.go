package sheet

// Uses are the places at which a checked job refers to a name, for tests.
func (j *Job) Uses(name string) []use { return j.usesOf(name) }
