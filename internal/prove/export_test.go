package prove

// BeginBy is Begin with stretches of another length, in bytes.
var BeginBy = begin
