package look

import (
	"context"
	"slices"
	"strings"

	"fundus/core/finding"
	"fundus/core/fs"
	"fundus/core/inventory"
	"fundus/core/quantity"
	"fundus/core/target"
	"fundus/core/verify"
	"fundus/internal/config"
	"fundus/internal/machine"
)

// Survey is the view of all devices.
type Survey struct {
	Inventory *inventory.Inventory
	Disks     []inventory.Node // that were asked for, with what belongs to them
	Findings  []finding.Finding
	Called    map[string]inventory.Called // by which words each device is named
	Named     map[string]string           // mount point in fstab, by the node that the line names
	LeftOut   []string                    // disks that are none to an administrator, unless named
	Filter    SurveyFilter
	config    *config.Config
	Matching  map[string]bool // names of the nodes that the filter lets pass; nil without one
}

// SurveyFilter chooses what is shown.
type SurveyFilter struct {
	Kinds     []string // what a device holds, such as "ext4"
	Unused    bool     // what could be formatted without losing anything
	Removable bool     // disks that can be taken out
	All       bool     // loop devices, memory and empty drives too
}

// Rows reports whether the filter is about partitions, not whole disks alone.
func (f SurveyFilter) Rows() bool { return len(f.Kinds) > 0 || f.Unused }

// NewSurvey reads the machine; words choose disks, none means all.
func NewSurvey(ctx context.Context, r machine.Reader, words []string, f SurveyFilter, c *config.Config) (*Survey, error) {
	v, err := r.Inventory(ctx)
	if err != nil {
		return nil, err
	}
	s := &Survey{Inventory: v, Findings: verify.All(v), Filter: f, config: c, Named: v.Named(), Called: target.Called(v, v.Nodes)}
	if len(words) == 0 {
		for _, n := range v.Disks() {
			if n.Minor() && !f.All {
				s.LeftOut = append(s.LeftOut, n.Name)
				continue
			}
			s.Disks = append(s.Disks, n)
		}
		slices.SortStableFunc(s.Disks, func(a, b inventory.Node) int { return inventory.Natural(a.Name, b.Name) })
	}
	for _, w := range words {
		n, err := target.Look(v, w)
		if err != nil {
			return nil, err
		}
		if n.Parent != "" {
			n, _ = v.Node(n.Parent)
		}
		if !slices.ContainsFunc(s.Disks, func(d inventory.Node) bool { return d.Name == n.Name }) {
			s.Disks = append(s.Disks, n)
		}
	}
	s.filter()
	return s, nil
}

// filter drops the disks on which nothing passes.
func (s *Survey) filter() {
	if s.Filter.Removable {
		s.Disks = slices.DeleteFunc(s.Disks, func(d inventory.Node) bool { return !d.Hardware.Removable && !d.Hardware.HotPlug })
	}
	if s.Filter.Rows() {
		s.Matching = map[string]bool{}
		var left []inventory.Node
		for _, d := range s.Disks {
			some := s.Filter.Unused && d.Table != nil && d.Problem == "" && !d.Hardware.ReadOnly && s.roomy(d)
			for _, n := range s.Inventory.Family(d.Name) {
				ok := s.passes(n)
				s.Matching[n.Name] = ok
				some = some || ok
			}
			if some {
				left = append(left, d)
			}
		}
		s.Disks = left
	}
}

// Step is the alignment step of the disk.
func (s *Survey) Step(d inventory.Node) quantity.Bytes { return s.config.Step(d.Geometry) }

// roomy reports whether a partition fits into a gap of the disk.
func (s *Survey) roomy(d inventory.Node) bool {
	return len(d.Table.Rooms(s.Step(d))) > 0
}

func (s *Survey) passes(n inventory.Node) bool {
	if s.Filter.Unused {
		return s.Inventory.Unused(n, s.Named)
	}
	return slices.ContainsFunc(s.Filter.Kinds, func(kind string) bool {
		return slices.ContainsFunc(n.Contents, func(c fs.Content) bool { return strings.EqualFold(c.Kind, kind) }) &&
			(n.Parent != "" || n.Table == nil)
	})
}
