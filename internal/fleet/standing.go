package fleet

import "fmt"

// The states of an image version; a template version is ready or withdrawn.
const (
	VersionBaking    = "baking"
	VersionReady     = "ready"
	VersionBroken    = "broken"
	VersionWithdrawn = "withdrawn"
)

// VersionStatus is whether a version of an image or template may be used.
type VersionStatus struct {
	What      string // image or template
	Version   Version
	State     string
	Why       string // of broken and withdrawn
	Successor string // what to use instead of a withdrawn one; may be ""
}

// Usable refuses new use of a version that is not ready.
func (s VersionStatus) Usable() error {
	switch {
	case s.State == VersionReady:
		return nil
	case s.State == VersionWithdrawn && s.Successor != "":
		return refuse("", "the %s %s is withdrawn (%s); use %s", s.What, s.Version, s.Why, s.Successor)
	case s.State == VersionWithdrawn:
		return refuse("", "the %s %s is withdrawn (%s); choose another", s.What, s.Version, s.Why)
	}
	return refuse("", "the %s %s is %s; only a ready one can be used", s.What, s.Version, s.State)
}

// Advice warns a group that still launches a withdrawn version; "" when it is not.
func (s VersionStatus) Advice() string {
	if s.State != VersionWithdrawn {
		return ""
	}
	text := fmt.Sprintf("The %s %s that it launches is withdrawn: %s.", s.What, s.Version, s.Why)
	if s.Successor != "" {
		text += fmt.Sprintf(" Use %s.", s.Successor)
	}
	return text
}
