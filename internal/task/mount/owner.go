package mount

import (
	"context"
	"fmt"
	"path"
	"strconv"
	"strings"

	"fundus/core/fs"
	"fundus/core/inventory"
	kinds "fundus/core/kind"
	"fundus/core/refused"
	"fundus/core/way"
	"fundus/internal/deed"
	"fundus/internal/draft"
	"fundus/internal/machine"
	"fundus/internal/machine/files"
	"fundus/internal/oscall"
	"fundus/internal/task"
)

// Home is what a mounted file system is given besides its place: somebody whom it belongs to,
// a mode, and a link by which it is found.
type Home struct {
	Owner string `json:"owner,omitempty"` // user, or user:group, by name or number
	Mode  string `json:"mode,omitempty"`  // of the mounted root, in octal
	Below bool   `json:"below,omitempty"` // the owner is that of everything below as well
	Link  string `json:"link,omitempty"`  // path of a symbolic link to it
}

// plan gives what is asked for to what is mounted at the directory, or is going to be.
func (h Home) plan(ctx context.Context, p *task.Planner, v *inventory.Inventory, n inventory.Node, dir string) error {
	o := draft.Owning{Node: n.Name, Where: dir, Below: h.Below}
	named := ""
	if h.Owner != "" {
		var err error
		if o.UID, o.GID, named, err = h.owner(p); err != nil {
			return err
		}
	}
	if h.Mode != "" {
		mode, err := strconv.ParseUint(h.Mode, 8, 12)
		if err != nil {
			return refused.As(refused.SettingWrong, fmt.Errorf("--mode=%s: a mode is written in octal, 2770 for one", h.Mode))
		}
		o.Mode = new(uint32(mode))
	}
	if h.Below && h.Owner == "" {
		return way.To(refused.As(refused.SettingWrong, fmt.Errorf("--below is about --owner: whom is it all to belong to?")), way.Help("mount"))
	}
	if o.UID != nil || o.Mode != nil {
		if err := keepsOwners(n, o, dir); err != nil {
			return err
		}
		if err := own(ctx, p, v, o, named); err != nil {
			return err
		}
	}
	if h.Link == "" {
		return nil
	}
	return link(p, h.Link, dir)
}

// owner reads whom the user and the group are on the machine that is worked on.
func (h Home) owner(p *task.Planner) (uid, gid *uint32, named string, err error) {
	user, group, both := strings.Cut(h.Owner, ":")
	u, err := lookUp(p, files.Users, "user", user)
	if err != nil {
		return nil, nil, "", err
	}
	uid = &u.Number
	if both {
		g, err := lookUp(p, files.Groups, "group", group)
		return uid, &g.Number, fmt.Sprintf("%s:%s (%d:%d)", user, group, u.Number, g.Number), err
	}
	if u.Group == "" { // a number that the machine does not know
		return uid, nil, fmt.Sprintf("user %d, the group stays", u.Number), nil
	}
	g, err := lookUp(p, files.Groups, "group", u.Group)
	return uid, &g.Number, fmt.Sprintf("%s (%d:%d)", user, u.Number, g.Number), err
}

// lookUp finds a name or a number in one of the lists of accounts.
func lookUp(p *task.Planner, list, what, word string) (files.Account, error) {
	number, errNumber := strconv.ParseUint(word, 10, 32)
	state, err := p.Stage.ReadFile(list)
	if err != nil && errNumber != nil {
		return files.Account{}, err
	}
	if a, ok := files.FindAccount(list, state.Data, word); ok {
		return a, nil
	}
	// The last number means "nobody is named" to the kernel's call.
	if errNumber != nil || number == 1<<32-1 {
		return files.Account{}, refused.As(refused.NoSuchThing, fmt.Errorf("%s has no %s %q; a number is taken as it is, where accounts are kept elsewhere",
			list, what, word))
	}
	return files.Account{Number: uint32(number)}, nil
}

// keepsOwners refuses for what keeps no owners of its own: what mounts it says whose all of it
// is.
func keepsOwners(n inventory.Node, o draft.Owning, dir string) error {
	c, _ := n.Content()
	if _, has := kinds.Options(c.MountType()).Find("uid=0"); !has {
		return nil
	}
	var options []string
	if o.UID != nil {
		options = append(options, fmt.Sprintf("uid=%d", *o.UID))
	}
	if o.GID != nil {
		options = append(options, fmt.Sprintf("gid=%d", *o.GID))
	}
	if o.Mode != nil {
		options = append(options, fmt.Sprintf("umask=%04o", ^*o.Mode&0o777))
	}
	err := fmt.Errorf("%s: %s stores no owners or modes; mount options set them", n.Name, c.Kind)
	return way.To(err, way.Mount(n.Name, dir, "--options="+strings.Join(options, ",")))
}

// own plans the change of owners. What is mounted already is looked at, and counted.
func own(ctx context.Context, p *task.Planner, v *inventory.Inventory, o draft.Owning, named string) error {
	what := fmt.Sprintf("the root of %s at %s", o.Node, o.Where)
	p.Result(draft.Result{Role: draft.RoleOwner, Device: o.Node, Path: o.Where, UID: o.UID, GID: o.GID, Mode: o.Mode})
	if use, mounted := v.MountedAt(o.Where); mounted && use.Node == o.Node {
		at, err := p.Stage.Place(o.Where)
		if err != nil {
			return err
		}
		change, n, err := deed.CountOwners(ctx, &o, at.Full)
		if err != nil {
			return err
		}
		if n.Files == 0 && change.Mode == nil {
			return nil
		}
		if o.Below {
			what = fmt.Sprintf("%d files of %s at %s", n.Files, o.Node, o.Where)
			countFacts(p, n)
		}
	} else if o.Below {
		return &machine.Refusal{
			Rule:  machine.RuleNotMounted,
			Thing: o.Node,
			Text:  "what is below is counted before owners change, and it is not mounted yet",
			Next:  way.Mount(o.Node, o.Where),
		}
	}
	var to []string
	if named != "" {
		to = append(to, "to "+named)
	}
	if o.Mode != nil {
		to = append(to, fmt.Sprintf("mode %04o", *o.Mode))
	}
	title := fmt.Sprintf("give %s %s", what, strings.Join(to, ", "))
	if named == "" {
		title = fmt.Sprintf("give %s the %s", what, to[0])
	}
	if len(p.Stage.Steps()) == 0 {
		p.Title("%s", title)
	} else {
		p.Facts(fs.Fact{Name: "root", Value: strings.Join(to, ", ")})
	}
	p.Stage.Add(title, &o)
	return nil
}

func countFacts(p *task.Planner, n oscall.OwnerCount) {
	p.Facts(fs.Fact{Name: "files", Value: fmt.Sprintf("%d get another owner; the former one of each is kept for undo", n.Files)})
	for _, left := range []struct {
		name  string
		count int
		why   string
	}{
		{"mounts", n.Mounts, "other ones below it, which are not entered"},
		{"programs", n.Privilege, "with special rights, which they would lose: they keep their owners"},
		{"fixed", n.Kept, "with an attribute that forbids changes: they keep their owners"},
	} {
		if left.count > 0 {
			p.Facts(fs.Fact{Name: left.name, Value: fmt.Sprintf("%d %s", left.count, left.why)})
		}
	}
}

// link plans a symbolic link to the directory. It is refused where the name is taken, or where
// another link would lead it elsewhere.
func link(p *task.Planner, name, dir string) error {
	if name = path.Clean(name); !strings.HasPrefix(name, "/") {
		return refused.As(refused.SettingWrong, fmt.Errorf("--link=%s: a link is named by its whole path", name))
	}
	p.Result(draft.Result{Role: draft.RoleLink, Path: name, Place: dir})
	parent, err := p.Stage.Place(path.Dir(name))
	if err != nil {
		return err
	}
	at, err := p.Stage.Place("/")
	if err != nil {
		return err
	}
	root := at.Full
	switch {
	case parent.Path != path.Dir(name):
		return fmt.Errorf("--link=%s: a symbolic link leads to %s, and whoever owns that could turn it elsewhere; name the place itself: %s",
			name, parent.Path, path.Join(parent.Path, path.Base(name)))
	case !parent.There:
		return refused.As(refused.NoDirectory, fmt.Errorf("--link=%s: there is no directory %s", name, parent.Path))
	}
	to, there, err := oscall.LinkAt(root, name)
	switch {
	case err != nil:
		return err
	case there && to == dir:
		return nil
	case there:
		return refused.As(refused.Exists, fmt.Errorf("--link=%s: there is something of that name already; choose another", name))
	}
	title := fmt.Sprintf("make the link %s to %s", name, dir)
	if len(p.Stage.Steps()) == 0 {
		p.Title("%s", title)
	} else {
		p.Facts(fs.Fact{Name: "link", Value: fmt.Sprintf("%s leads to %s", name, dir)})
	}
	p.Stage.Add(title, &draft.Linking{Path: name, To: dir})
	return nil
}
