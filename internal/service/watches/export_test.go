package watches

import "time"

// TellApartAfter has notices be made without the records sooner.
func TellApartAfter(d time.Duration) { apartAfter = d }
