package setting

import "time"

// Group is how a consumer group is set.
type Group struct {
	Description string `db:"description"`
	Paused      bool   `db:"paused"`
	ExpireMS    int64  `db:"expire_ms"` // without members; 0: never
}

// Groups is what can be set on consumer groups.
var Groups = Table[Group]{
	timed(Setting[Group]{Name: "expire", Label: "Remove it without members after", Form: Duration(time.Minute, 3650*day, "never"),
		Help: "of a group: remove it after this `time` without members"}, time.Millisecond, func(g *Group) *int64 { return &g.ExpireMS }),
	row(Setting[Group]{Name: "paused", Label: "Paused", Form: Switch(), Help: "members get nothing"}, func(g *Group) *bool { return &g.Paused }),
	row(Setting[Group]{Name: "description", Label: "Description", Form: Sentence(MaxDescription), Help: "what it is for, in a `sentence`"}, func(g *Group) *string { return &g.Description }),
}

// Space is how a space is set.
type Space struct {
	Description string
	Labels      map[string]string
}

// Spaces is what can be set on spaces.
var Spaces = Table[Space]{
	row(Setting[Space]{Name: "description", Label: "Description", Form: Sentence(MaxDescription), Help: "what it is for, in a `sentence`"}, func(s *Space) *string { return &s.Description }),
	{Name: "labels", AsFlag: "label", Label: "Labels", Form: Labels(), Help: "a `name=value` to find it by",
		Get: func(s *Space) any { return s.Labels },
		Put: func(s *Space, value any) { s.Labels = Merge(s.Labels, value.(map[string]string)) }},
}
