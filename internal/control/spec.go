package control

import (
	"maps"

	"unitas/internal/machine"
	"unitas/internal/store"
)

// specOf is what a machine of the instance is launched with.
func specOf(in store.Instance, t store.Template) machine.Spec {
	spec := machine.Spec{
		ID: in.ID, Launch: in.Launch, Group: in.Group, Zone: in.Zone, Template: in.Version.String(), Image: t.ImageRef().String(), Digest: t.ImageDigest,
		Start: t.ImageStart, Address: in.Address, Number: in.AddressNumber, Addresses: t.Addresses, Port: t.Port, CPUs: t.CPUs,
		MemoryBytes: t.MemoryBytes, DiskBytes: t.DiskBytes, Processes: t.Processes, Labels: maps.Clone(t.Labels), UserData: t.UserData,
		Environment: maps.Clone(t.ImageEnvironment),
	}
	if spec.Environment == nil {
		spec.Environment = map[string]string{}
	}
	maps.Copy(spec.Environment, t.Environment)
	return override(spec, in.Overrides, t)
}

// override applies what a person wanted otherwise for one instance.
func override(spec machine.Spec, o store.Overrides, t store.Template) machine.Spec {
	if o.UserData != nil {
		spec.UserData = *o.UserData
	}
	if o.Image != "" {
		spec.Image, spec.Digest, spec.Start = o.Image, o.Digest, o.Start
		spec.Environment = maps.Clone(o.Environment)
		if spec.Environment == nil {
			spec.Environment = map[string]string{}
		}
		maps.Copy(spec.Environment, t.Environment)
	}
	if len(o.Labels) > 0 {
		if spec.Labels == nil {
			spec.Labels = map[string]string{}
		}
		maps.Copy(spec.Labels, o.Labels)
	}
	return spec
}
