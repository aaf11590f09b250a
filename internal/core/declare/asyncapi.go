package declare

import (
	"encoding/json"
	"maps"
	"net/url"
	"slices"

	"steadyferry/internal/core/address"
)

// AsyncAPI returns the channels among the things as an AsyncAPI 3.0 document:
// each with its message, who sends to it, and which groups receive from it. The
// server is where the service is.
func AsyncAPI(things []Thing, server string) ([]byte, error) {
	u, err := url.Parse(server)
	if err != nil {
		return nil, err
	}
	channels, operations := object{}, object{}
	for _, t := range things {
		a, err := address.Parse(t.Address)
		if err != nil || t.Kind == "nodes" || t.Kind == "space" || slices.Contains(ofNoSpace, Named(t.Kind)) || slices.Contains(ofSpaces, Named(t.Kind)) {
			continue
		}
		id := a.Space + "." + a.Channel
		channel := object{"$ref": "#/channels/" + id}
		messages := []any{object{"$ref": "#/channels/" + id + "/messages/message"}}
		if t.Kind == "group" || t.Kind == "route" {
			operations["receive."+id+"."+a.Group] = object{"action": "receive", "channel": channel, "messages": messages, "title": t.Address, "summary": text(t, "description")}
			continue
		}
		channels[id] = object{"address": t.Address, "title": t.Kind + " " + t.Address, "description": text(t, "description"), "tags": tags(t),
			"servers":  []any{object{"$ref": "#/servers/service"}},
			"messages": object{"message": object{"$ref": "#/components/messages/message"}}}
		operations["send."+id] = object{"action": "send", "channel": channel, "messages": messages, "title": "send to " + t.Address}
		if t.Kind == "queue" {
			operations["receive."+id] = object{"action": "receive", "channel": channel, "messages": messages, "title": "work on " + t.Address}
		}
	}
	document := object{
		"asyncapi":           "3.0.0",
		"info":               object{"title": "Channels of Steady Ferry", "version": "1.0.0"},
		"defaultContentType": "application/json",
		"servers":            object{"service": object{"host": u.Host, "protocol": u.Scheme, "pathname": "/api/v1", "security": []any{object{"$ref": "#/components/securitySchemes/token"}}}},
		"channels":           channels,
		"operations":         operations,
		"components": object{
			"messages":        object{"message": object{"name": "message", "payload": object{}, "headers": object{"type": "object", "additionalProperties": object{"type": "string"}}}},
			"securitySchemes": object{"token": object{"type": "http", "scheme": "bearer"}},
		},
	}
	b, err := json.MarshalIndent(document, "", "  ")
	return append(b, '\n'), err
}

func text(t Thing, name string) string {
	text, _ := t.Settings[name].(string)
	return text
}

// tags are the kind and the labels of a thing.
func tags(t Thing) []any {
	all := []any{object{"name": t.Kind}}
	labels := labelsOf(t.Settings["labels"])
	for _, name := range slices.Sorted(maps.Keys(labels)) {
		all = append(all, object{"name": name + "=" + labels[name]})
	}
	return all
}
