package event

// Code names what somebody may want to be told of, in a word that does not change.
type Code string

// The codes.
const (
	CodePlayBegan         Code = "play-began"
	CodePlayEnded         Code = "play-ended"
	CodeDeviceNew         Code = "device-new"
	CodeDeviceMoved       Code = "device-moved"
	CodeFalseTries        Code = "false-tries"
	CodeSignInChanged     Code = "sign-in-changed"
	CodeMemberChanged     Code = "member-changed"
	CodeTitleArrived      Code = "title-arrived"
	CodeUploadArrived     Code = "upload-arrived"
	CodeScanProblems      Code = "scan-problems"
	CodeFolderAway        Code = "folder-away"
	CodeFolderBack        Code = "folder-back"
	CodeDiskLow           Code = "disk-low"
	CodeDiskFills         Code = "disk-fills"
	CodeBackupMade        Code = "backup-made"
	CodeBackupFailed      Code = "backup-failed"
	CodeBackupOverdue     Code = "backup-overdue"
	CodeCertificateEnds   Code = "certificate-ends"
	CodeNameMoved         Code = "name-moved"
	CodeNameFails         Code = "name-fails"
	CodeServerUpdated     Code = "server-updated"
	CodeTimeUp            Code = "time-up"
	CodeConversionRefused Code = "conversion-refused"
	CodeKeyChanged        Code = "key-changed"
	CodeOutsideChanged    Code = "outside-changed"
	CodeNoticesLost       Code = "notices-lost"
	CodeTest              Code = "test"
)

// About is what is said of a code.
type About struct {
	Code  Code
	What  string // when it is told
	Usual bool   // told where a receiver names no events: somebody should know of it, or see to it
}

// Codes are all that a receiver can ask for, in the order of the reference.
var Codes = []About{
	{CodePlayBegan, "a member begins to watch", false},
	{CodePlayEnded, "a stream is over", false},
	{CodeDeviceNew, "a member signed in on a new device", true},
	{CodeDeviceMoved, "a device came from a network outside from which it was not known", true},
	{CodeFalseTries, "somebody tried too many wrong passwords or codes", true},
	{CodeSignInChanged, "a password, passkey or second factor was changed, or a recovery code used", true},
	{CodeMemberChanged, "a member was invited, added, changed or removed, or given more time", false},
	{CodeTitleArrived, "titles arrived on a shelf", false},
	{CodeUploadArrived, "what a member sent is on the shelf, or cannot go there", false},
	{CodeScanProblems, "files of a shelf could not be read", true},
	{CodeFolderAway, "a folder of a shelf is not there", true},
	{CodeFolderBack, "it is there again", true},
	{CodeDiskLow, "less than a twentieth of a disk is free, or less than 1 GiB where the state folder lies", true},
	{CodeDiskFills, "a disk will be full within 30 days, if things go on arriving as they do", true},
	{CodeBackupMade, "the server made a backup", false},
	{CodeBackupFailed, "the server's backup failed", true},
	{CodeBackupOverdue, "no backup was made for a day longer than it should take", true},
	{CodeCertificateEnds, "a certificate ends within 14 days", true},
	{CodeNameMoved, "the name of `remote.address` was made to stand for another address", false},
	{CodeNameFails, "that name could not be looked after for a quarter of an hour", true},
	{CodeServerUpdated, "another version of the program runs, newer or put back", true},
	{CodeTimeUp, "a member's time for today is over", false},
	{CodeConversionRefused, "a film could not be sent to a device", false},
	{CodeKeyChanged, "another system was given a key, or it was taken away", true},
	{CodeOutsideChanged, "the way in from outside was closed, or opened", true},
	{CodeNoticesLost, "notices to another receiver were given up", true},
}

// CodeNames are the codes as text.
func CodeNames() (out []string) {
	for _, a := range Codes {
		out = append(out, string(a.Code))
	}
	return out
}
