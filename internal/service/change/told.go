package change

import (
	"steadyferry/internal/core/problem"
	"steadyferry/internal/core/setting"
	"steadyferry/internal/engine/catalog"
)

// CheckTold says why endpoints cannot be told of something. coming are the kinds of things
// that are made before that, by their addresses.
func CheckTold(view *catalog.View, tell []string, coming map[string]string) error {
	for _, at := range tell {
		e := view.Endpoints[at]
		if e == nil && coming[at] == setting.AnEndpoint {
			continue
		}
		if e == nil {
			return problem.New(problem.NotFound, "there is no endpoint %s", at).Field("tell").Next("ferry new endpoint %s -url URL makes it", at)
		}
		if e.Kind() != setting.HTTP && e.Kind() != setting.Mail {
			return problem.New(problem.Invalid, "%s is a %s", at, e.Kind()).Field("tell").Allowed("endpoints at an address of HTTP or of mail")
		}
	}
	return nil
}
