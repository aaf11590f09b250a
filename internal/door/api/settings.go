package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"steadyferry/internal/core/setting"
)

// listSettings tells what can be set, for pages that let it be set.
func (s *Server) listSettings(c *gin.Context) {
	c.JSON(http.StatusOK, gin.H{"channels": setting.Channels.Rows(), "groups": setting.Groups.Rows(), "spaces": setting.Spaces.Rows(), "endpoints": setting.Endpoints.Rows(), "watches": setting.Watches.Rows(), "chores": setting.Chores.Rows(),
		"principals": setting.Principals.Rows(), "roles": setting.Roles.Rows(), "grants": setting.Grants.Rows(), "masks": setting.Masks.Rows()})
}
