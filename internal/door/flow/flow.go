// Package flow is where messages go in and out over HTTP: publishing, fetching,
// browsing, tailing, exporting, and work under leases, each as one request or as a
// stream.
package flow

import (
	"github.com/gin-gonic/gin"
	"golang.org/x/sync/semaphore"

	"steadyferry/internal/door/gate"
)

// Flow is that of one node. It may be used at once by many.
type Flow struct {
	*gate.Gate
	fetching *semaphore.Weighted // bytes of fetch buffers in use
}

// fetchBytes is how many bytes of fetch answers are in memory at once.
const fetchBytes = 64 << 20

// New returns the door behind a gate.
func New(g *gate.Gate) *Flow { return &Flow{Gate: g, fetching: semaphore.NewWeighted(fetchBytes)} }

// Routes adds its paths below that of a channel; stream and search bound how many
// of a kind one caller has at once.
func (s *Flow) Routes(ch *gin.RouterGroup, stream, search gin.HandlerFunc) {
	ch.POST("/messages", s.publish)
	ch.GET("/publish", stream, s.publishStream)
	ch.POST("/lease", s.lease)
	ch.POST("/settle", s.lease)
	ch.GET("/work", stream, s.workStream)
	ch.GET("/messages", search, s.browse)
	ch.GET("/tail", stream, s.tail)
	ch.GET("/export", search, s.export)
	ch.GET("/partitions/:partition/records", s.fetch)
	ch.GET("/partitions/:partition/copies/:route", s.copied)
	ch.POST("/partitions/:partition/copies/:route", s.takeCopy)
	ch.GET("/partitions/:partition/messages/:offset", s.message)
}
