package gate

import (
	"net/http"

	"github.com/gin-gonic/gin"
)

// Stream lets a caller begin a stream, of which there are so many for all, for each, and by what the
// space and they may have.
func (g *Gate) Stream(c *gin.Context) {
	leave, err := g.Node.Quotas.Stream(c.Request.Context(), c.Param("space"))
	if Refuse(c, err) {
		return
	}
	defer leave()
	Within(g.Node.Streams)(c)
}

// Bounded refuses a request for which whoever asks, or the space that it is for, has used too much,
// and counts what is read of messages.
func (g *Gate) Bounded(c *gin.Context) {
	ctx, space := c.Request.Context(), c.Param("space")
	gives := g.needs[operation{c.Request.Method, c.FullPath()}].gives()
	if Refuse(c, g.Node.Quotas.Request(ctx, space, gives)) {
		return
	}
	if gives && g.Node.Quotas.Reads(ctx, space) {
		c.Writer = &metered{c.Writer, func(bytes int) { g.Node.Quotas.Gave(ctx, space, bytes) }}
	}
}

// metered tells of the bytes of an answer as they are written.
type metered struct {
	gin.ResponseWriter
	gave func(bytes int)
}

func (w *metered) Write(b []byte) (int, error) {
	w.gave(len(b))
	return w.ResponseWriter.Write(b)
}

func (w *metered) WriteString(s string) (int, error) {
	w.gave(len(s))
	return w.ResponseWriter.WriteString(s)
}

// Unwrap is for http.ResponseController.
func (w *metered) Unwrap() http.ResponseWriter { return w.ResponseWriter }
