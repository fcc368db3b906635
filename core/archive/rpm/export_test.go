package rpm

// What the tests outside the package (they use made-up packages, which are built upon it) look at.
var (
	ReadAdvisoryList = readAdvisories
	ReadStreamList   = readStreams
	ActivateStreams  = activate
	ArtifactOf       = artifact
	ReadFileList     = readFiles
	Walk             = walk
	FileOf           = fileOf
)

const (
	RootPath        = rootPath
	MaxRichOperands = maxRichOperands
	MaxRichText     = maxRichText
	MaxRichDepth    = maxRichDepth
)

type StreamList = streams
