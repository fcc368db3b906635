package header

// Tags that are read and written.
const (
	TagPubkeys    = 266 // certificates in base64, in the keyring
	TagSignatures = 62  // region of the signature header
	TagImmutable  = 63  // region of the header
	TagI18NTable  = 100

	TagName           = 1000
	TagVersion        = 1001
	TagRelease        = 1002
	TagEpoch          = 1003
	TagSummary        = 1004
	TagDescription    = 1005
	TagBuildTime      = 1006
	TagBuildHost      = 1007
	TagSize           = 1009
	TagVendor         = 1011
	TagLicence        = 1014
	TagPackager       = 1015
	TagGroup          = 1016
	TagURL            = 1020
	TagOS             = 1021
	TagArch           = 1022
	TagFileSizes      = 1028
	TagFileModes      = 1030
	TagFileRDevs      = 1033
	TagFileMTimes     = 1034
	TagFileDigests    = 1035
	TagFileLinkTos    = 1036
	TagFileFlags      = 1037
	TagFileUser       = 1039
	TagFileGroup      = 1040
	TagSourceRPM      = 1044
	TagFileVerify     = 1045
	TagArchiveSize    = 1046
	TagProvideName    = 1047
	TagRequireFlags   = 1048
	TagRequireName    = 1049
	TagRequireVersion = 1050
	TagConflictFlags  = 1053
	TagConflictName   = 1054
	TagConflictVer    = 1055
	TagRPMVersion     = 1064
	TagChangeTime     = 1080
	TagChangeName     = 1081
	TagChangeText     = 1082
	TagObsoleteName   = 1090
	TagFileDevices    = 1095
	TagFileInodes     = 1096
	TagFileLangs      = 1097
	TagProvideFlags   = 1112
	TagProvideVersion = 1113
	TagObsoleteFlags  = 1114
	TagObsoleteVer    = 1115
	TagDirIndexes     = 1116
	TagBaseNames      = 1117
	TagDirNames       = 1118
	TagPayloadFormat  = 1124
	TagPayloadPacker  = 1125
	TagPayloadFlags   = 1126
	TagLongSize       = 5009
	TagDigestAlgo     = 5011
	TagRecommendName  = 5046
	TagSuggestName    = 5049
	TagSupplementName = 5052
	TagEnhanceName    = 5055
	TagEncoding       = 5062
	TagPayloadDigest  = 5092 // of the payload as it is packed
	TagPayloadAlgo    = 5093
	TagPayloadSHA512  = 5121
	TagFormat         = 5114 // 6 for packages of format 6

	SigDSAHeader    = 267
	SigRSAHeader    = 268
	SigSHA1Header   = 269
	SigSHA256Header = 273
	SigOpenPGP      = 278
	SigSize         = 1000
	SigPGP          = 1002 // over header and payload
	SigMD5          = 1004
	SigGPG          = 1005 // over header and payload
	SigPayloadSize  = 1007
)

// Flags of relations.
const (
	SenseLess    = 1 << 1
	SenseGreater = 1 << 2
	SenseEqual   = 1 << 3
	SensePre     = 1<<6 | 1<<9 | 1<<10 | 1<<11 | 1<<12
	SenseRPMLib  = 1 << 24
)
