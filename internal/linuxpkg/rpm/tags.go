package rpm

// Tags and types of headers. Source: RPM's documentation, "Package Format" and
// "Header Tags".
const (
	typeInt16  = 3
	typeInt32  = 4
	typeInt64  = 5
	typeString = 6
	typeBin    = 7
	typeArray  = 8
	typeI18N   = 9

	tagSignatures = 62
	tagImmutable  = 63
	tagI18NTable  = 100

	sigSHA1        = 269
	sigLongSize    = 270
	sigLongArchive = 271
	sigSHA256      = 273
	sigSize        = 1000
	sigPayloadSize = 1007

	tagName              = 1000
	tagVersion           = 1001
	tagRelease           = 1002
	tagEpoch             = 1003
	tagSummary           = 1004
	tagDescription       = 1005
	tagBuildTime         = 1006
	tagBuildHost         = 1007
	tagSize              = 1009
	tagLicense           = 1014
	tagPackager          = 1015
	tagGroup             = 1016
	tagURL               = 1020
	tagOS                = 1021
	tagArch              = 1022
	tagPreIn             = 1023
	tagPostIn            = 1024
	tagPreUn             = 1025
	tagPostUn            = 1026
	tagFileSizes         = 1028
	tagFileModes         = 1030
	tagFileRdevs         = 1033
	tagFileMtimes        = 1034
	tagFileDigests       = 1035
	tagFileLinkTos       = 1036
	tagFileFlags         = 1037
	tagFileUserName      = 1039
	tagFileGroupName     = 1040
	tagSourceRPM         = 1044
	tagFileVerifyFlags   = 1045
	tagProvideName       = 1047
	tagRequireFlags      = 1048
	tagRequireName       = 1049
	tagRequireVersion    = 1050
	tagConflictFlags     = 1053
	tagConflictName      = 1054
	tagConflictVersion   = 1055
	tagRPMVersion        = 1064
	tagChangelogTime     = 1080
	tagChangelogName     = 1081
	tagChangelogText     = 1082
	tagPreInProg         = 1085
	tagPostInProg        = 1086
	tagPreUnProg         = 1087
	tagPostUnProg        = 1088
	tagObsoleteName      = 1090
	tagFileDevices       = 1095
	tagFileInodes        = 1096
	tagFileLangs         = 1097
	tagProvideFlags      = 1112
	tagProvideVersion    = 1113
	tagObsoleteFlags     = 1114
	tagObsoleteVersion   = 1115
	tagDirIndexes        = 1116
	tagBaseNames         = 1117
	tagDirNames          = 1118
	tagPayloadFormat     = 1124
	tagPayloadCompressor = 1125
	tagPayloadFlags      = 1126
	tagPlatform          = 1132
	tagLongFileSizes     = 5008
	tagLongSize          = 5009
	tagFileDigestAlgo    = 5011
	tagRecommendName     = 5046
	tagRecommendVersion  = 5047
	tagRecommendFlags    = 5048
	tagSuggestName       = 5049
	tagSuggestVersion    = 5050
	tagSuggestFlags      = 5051
	tagEncoding          = 5062
	tagPayloadDigest     = 5092
	tagPayloadDigestAlgo = 5093
)

// Flags of relations and files.
const (
	senseLess    = 1 << 1
	senseGreater = 1 << 2
	senseEqual   = 1 << 3
	senseInterp  = 1 << 8
	sensePre     = 1 << 9
	sensePost    = 1 << 10
	sensePreUn   = 1 << 11
	sensePostUn  = 1 << 12
	senseRPMLib  = 1 << 24
	senseConfig  = 1 << 28

	fileConfig    = 1 << 0
	fileDoc       = 1 << 1
	fileNoReplace = 1 << 4
	fileLicense   = 1 << 7

	algoSHA256 = 8
)
