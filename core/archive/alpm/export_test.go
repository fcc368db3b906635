package alpm

// What the tests outside the package (they use made-up packages, which are built upon it) look at.
var (
	ClientConf = clientConf
	Database   = database
	Rewrite    = rewrite
	FileNames  = fileNames
	OpenTar    = openTar
)

const (
	MaxEntry  = maxEntry
	MaxBefore = maxBefore
)
