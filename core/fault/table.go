// Package fault is the table of errors. Each kind of error has a code, the exit code of a command,
// the HTTP status of an answer, and a remedy. An error belongs to a kind by wrapping it:
// fmt.Errorf("thread %d: %w", t, fault.NoThread).
package fault

// Exit codes of all commands. wraith record returns the recorded program's own code.
const (
	ExitFine       = 0
	ExitNo         = 1 // the answer is no, or nothing was found
	ExitUsage      = 2 // wrong use
	ExitUnreadable = 3 // the evidence cannot be read
	ExitInternal   = 4 // a defect of Wraithology itself
)

// HTTP statuses (RFC 9110, section 15), by number: core imports no HTTP.
const (
	badRequest       = 400
	unauthorized     = 401
	forbidden        = 403
	notFound         = 404
	methodNotAllowed = 405
	conflict         = 409
	tooLarge         = 413
	unprocessable    = 422
	tooManyRequests  = 429
	clientClosed     = 499
	internalError    = 500
	badGateway       = 502
	unavailable      = 503
	insufficient     = 507 // RFC 4918, section 11.5
)

// Evidence and artifacts that cannot be used.
var (
	Unreadable     = define("unreadable", ExitUnreadable, unprocessable, "evidence not readable", "check the path and fetch or record the file again; wraith record -o FILE -- COMMAND makes an execution log")
	UnknownKind    = define("unknown-kind", ExitUnreadable, unprocessable, "unknown kind of evidence", "name the kind with --as KIND")
	Processor      = define("unsupported-processor", ExitUnreadable, unprocessable, "unsupported processor", "core dumps of x86-64 and arm64 Linux are supported")
	Damaged        = define("damaged", ExitUnreadable, unprocessable, "damaged file", "ask again: the timeline is built again from the evidence; if the evidence itself is damaged, fetch it again")
	NotELF         = define("not-elf", ExitUnreadable, unprocessable, "not an ELF file", "give --binary the program that crashed, as it was built")
	WrongBuild     = define("wrong-build", ExitUnreadable, unprocessable, "binary of another build", "fetch the binary from the machine that crashed, or the package of that version")
	Masked         = define("masked", ExitNo, forbidden, "it can show secrets, which are masked", "whoever has the right to unmask asks with --unmask")
	NoBytes        = define("no-bytes", ExitNo, notFound, "the bytes were left out of the archive, which was exported masked", "ask for an archive that is not masked, and import that")
	InvalidBackup  = define("invalid-backup", ExitUnreadable, unprocessable, "the backup is not whole", "use another backup")
	OverQuota      = define("over-quota", ExitNo, insufficient, "more than may be kept", "delete evidence that nobody needs")
	InvalidMask    = define("invalid-mask", ExitUsage, unprocessable, "invalid rule for masking", "wraith case mask --help shows rules")
	InvalidRule    = define("invalid-rule", ExitUsage, unprocessable, "invalid rule for fields", "for example --field thread=order_id, --zone Europe/Paris or --pattern '{time} {level} {message}'")
	InvalidArchive = define("invalid-archive", ExitUnreadable, unprocessable, "not an archive of a case", "export the case again, with wraith case export CASE")
	InvalidSource  = define("invalid-source", ExitUsage, unprocessable, "not an archive of source text", "upload a .zip, .tar or .tar.gz of the source folder")
)

// Requests that cannot be understood.
var (
	InvalidUse        = define("invalid-use", ExitUsage, unprocessable, "invalid use", "wraith help COMMAND lists what a command takes")
	InvalidRequest    = define("invalid-request", ExitUsage, unprocessable, "invalid request", "correct the value and ask again")
	InvalidText       = define("invalid-text", ExitUsage, unprocessable, "invalid text", "use UTF-8 without control characters")
	InvalidLocator    = define("invalid-locator", ExitUsage, unprocessable, "invalid locator", "write it as EVIDENCE@MOMENT#THREAD.FRAME; everything after EVIDENCE may be left off")
	InvalidExpression = define("syntax", ExitUsage, unprocessable, "invalid expression", "write it in the Common Expression Language, for example: water - draught < 0.5")
	InvalidPath       = define("invalid-path", ExitUsage, unprocessable, "invalid path", "write it as quay, quay.Depth, berths[2], table[\"Inner Ness\"] or *p")
	InvalidNumber     = define("invalid-hit-number", ExitUsage, unprocessable, "invalid hit number", "use 5, \"every 100\", \"last\" or \"last before 4711\"")
	AmbiguousTrace    = define("ambiguous-trace", ExitUsage, unprocessable, "ambiguous trace ID", "write more of the ID")
	NotRecordable     = define("not-recordable", ExitUsage, unprocessable, "cannot record this command", "write it as wraith record -o FILE -- go run|test|build …, or -- PROGRAM that such a build made")
)

// Questions without an answer.
var (
	OutOfRange  = define("out-of-range", ExitNo, unprocessable, "out of range", "wraith peek EVIDENCE shows how many moments there are")
	NoThread    = define("no-thread", ExitNo, unprocessable, "no such thread", "wraith stack --all LOCATOR lists the threads")
	NoFrame     = define("no-frame", ExitNo, unprocessable, "no such frame", "wraith stack LOCATOR lists the frames")
	NoName      = define("no-name", ExitNo, unprocessable, "name not found", "wraith values LOCATOR lists the names of the frame")
	NoValue     = define("no-value", ExitNo, unprocessable, "no value", "wraith values LOCATOR shows the values and types of the frame")
	NoCode      = define("no-code", ExitNo, unprocessable, "no code there", "name one of these")
	NoSource    = define("no-source", ExitNo, unprocessable, "no source text", "give --source FOLDER, or add an archive of the source to the case")
	NoHit       = define("no-hit", ExitNo, notFound, "no hit", "wraith hits lists all hits; --back looks the other way")
	NoTrace     = define("no-trace", ExitNo, unprocessable, "trace not found", "wraith traces EVIDENCE lists the traces")
	TimeLimit   = define("time-limit", ExitNo, unprocessable, "time limit exceeded", "narrow the question with a thread, a hit number or a shorter range, or allow more time with --within 1m")
	CostLimit   = define("cost-limit", ExitNo, unprocessable, "expression too expensive", "ask for less at once: fewer elements, shorter texts")
	Cancelled   = define("cancelled", ExitNo, clientClosed, "cancelled", "ask again")
	Nothing     = define("nothing-recorded", ExitNo, unprocessable, "nothing recorded", "check that the command runs code of the module in which it is started")
	NotRemade   = define("not-reproducible", ExitNo, unprocessable, "the call cannot be made again", "name a frame of a function or method; wraith stack LOCATOR lists the frames")
	NoSandbox   = define("no-sandbox", ExitNo, unprocessable, "no sandbox on this system", "run it on Linux 5.12 or later where user namespaces are allowed; without --run the test is only written")
	BuildFailed = define("build-failed", ExitNo, unprocessable, "the build failed", "check that --source is the module's root and that its dependencies are in the module cache (go mod download)")
	NoSnapshots = define("no-snapshots", ExitNo, unprocessable, "the recording has no snapshots to verify it with", "record the program again with wraith record --verify")
)

// What a kind of evidence cannot answer.
var (
	NoHistory = define("one-moment", ExitNo, unprocessable, "the evidence has one moment only", "wraith stack, values, ask, threads, memory and instructions work on it")
	NoMachine = define("no-machine", ExitNo, unprocessable, "the evidence has no memory or instructions", "core dumps have memory and instructions")
	NoWaits   = define("no-waits", ExitNo, unprocessable, "the evidence does not say what threads wait for", "recordings, core dumps, runtime traces and thread dumps do")
	NoTraces  = define("no-traces", ExitNo, unprocessable, "the evidence has no traces", "event traces have traces")
)

// Answers of the service.
var (
	NotSignedIn      = define("not-signed-in", ExitNo, unauthorized, "not signed in", "wraith sign-in URL --name NAME")
	WrongPassword    = define("wrong-password", ExitNo, unauthorized, "wrong name or password", "check both; an administrator can set a new password")
	UnknownToken     = define("unknown-token", ExitNo, unauthorized, "unknown token", "wraith sender CASE makes a token")
	PermissionDenied = define("permission-denied", ExitNo, forbidden, "permission denied", "ask the person who leads the case to change your role")
	CrossOrigin      = define("cross-origin", ExitNo, forbidden, "cross-origin request refused", "send the request from the console's own pages, or with a token")
	NotFound         = define("not-found", ExitNo, notFound, "not found", "wraith case and wraith evidence CASE list what there is")
	MethodNotAllowed = define("method-not-allowed", ExitUsage, methodNotAllowed, "method not allowed", "/api/openapi.json lists the operations")
	Exists           = define("exists", ExitUsage, conflict, "exists already", "use another name")
	InvalidCustody   = define("invalid-custody", ExitNo, unprocessable, "the record is not whole", "ask who operates the service what happened to it; a backup may have it whole")
	NoProvider       = define("no-provider", ExitNo, badGateway, "the OpenID provider cannot be reached", "try again later, or sign in with a password")
	NotIdentified    = define("not-identified", ExitNo, forbidden, "the OpenID provider did not say who you are", "try to sign in again")
	NotLinked        = define("not-linked", ExitNo, forbidden, "nobody here has this identity", "ask an administrator for an account")
	LastAdmin        = define("last-administrator", ExitNo, conflict, "nobody would be administrator", "make somebody else one first: wraithd person grant NAME")
	Disabled         = define("disabled", ExitNo, forbidden, "the account is disabled", "ask an administrator")
	LastLead         = define("last-lead", ExitNo, conflict, "nobody would lead the case", "make somebody else lead it first: wraith case add CASE PERSON --role lead")
	ByTeam           = define("by-team", ExitNo, conflict, "in the case by a team", "remove the person from the team: wraith team remove TEAM PERSON")
	NoInvitation     = define("no-invitation", ExitNo, notFound, "the invitation does not work: it is used up, expired or withdrawn", "ask who sent it for a new link")
	Indexing         = define("indexing", ExitUsage, conflict, "still being indexed", "wraith evidence CASE shows the progress")
	NotInSitting     = define("not-in-sitting", ExitUsage, conflict, "not in the sitting", "join the sitting first")
	SittingMoved     = define("sitting-moved", ExitNo, conflict, "somebody else has moved the sitting", "look where it is now, and move again")
	NotLeading       = define("not-leading", ExitNo, conflict, "only the lead can do this", "take the lead, or ask for it")
	NoPrinter        = define("no-printer", ExitNo, unavailable, "PDF cannot be printed here", "install Debian's package chromium on the machine of the service, or ask for the report as HTML")
	NotDelivered     = define("not-delivered", ExitNo, badGateway, "the receiver did not take it", "check the address, and that the receiver is reachable from the machine of the service")
	BrokenBody       = define("broken-body", ExitUsage, badRequest, "the body of the request is cut off or invalid", "send the request again")
	CutOff           = define("upload-cut-off", ExitUsage, badRequest, "upload cut off", "upload it again")
	InvalidName      = define("invalid-name", ExitUsage, unprocessable, "invalid name", "use letters, digits, dots, hyphens and underscores, a letter or digit first")
	WeakPassword     = define("weak-password", ExitUsage, unprocessable, "password too short", "use at least 8 characters")
	TooLarge         = define("too-large", ExitUsage, tooLarge, "request too large", "send less at a time")
	TooMany          = define("too-many-requests", ExitNo, tooManyRequests, "too many requests", "wait a minute and try again")
	Busy             = define("busy", ExitNo, unavailable, "service busy", "try again in some seconds")
	Unavailable      = define("unavailable", ExitNo, unavailable, "service not available", "check the address with wraith sign-in, and that wraithd runs")
	DiskFull         = define("disk-full", ExitNo, insufficient, "disk full", "free some space and try again; wraith cache lists and clears your own timelines")
	DataInUse        = define("data-in-use", ExitUsage, conflict, "data folder in use", "stop the wraithd that serves it, or give another folder with --data")
	Internal         = define("internal", ExitInternal, internalError, "internal error", "report it with the request ID; the log has the details")
)
