package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"wraithology/api"
	"wraithology/core/ask"
	"wraithology/core/fault"
	"wraithology/core/mask"
	"wraithology/core/replay"
	"wraithology/service/accounts"
	"wraithology/service/store"
)

// A right is what somebody may do. Each includes those before it. From mayLook on it is the right in one case, or in one team.
type right int

const (
	anybody right = iota // without signing in
	person               // whoever is signed in, about what is the person's own
	mayLook
	mayWork
	mayLead
	nobody
)

// rights are those of the roles in a case, or a team.
var rights = map[string]right{api.RoleViewer: mayLook, api.RoleMember: mayWork, api.RoleLead: mayLead}

// An access says who may do an operation.
type access struct {
	needs right
	// full is what the parts of the operation need that change or show what belongs to others; 0 if there are none.
	full right
	// secrets is set if the operation shows what is masked: it needs the right to see that.
	secrets bool
	// tokens are the scopes, besides write, that permit the operation.
	tokens []string
}

// Tokens with these scopes permit operations, besides those with the scope write.
var (
	reading  = []string{store.ScopeRead}
	adding   = []string{store.ScopeIngest}
	watching = []string{store.ScopeRead, store.ScopeIngest} // what became of what was added
)

// accesses say who may do which operation. Each operation of the API has an entry; questions have questionAccess.
var accesses = map[string]access{
	"signIn":           {needs: anybody},
	"signInWays":       {needs: anybody},
	"signInByOpenID":   {needs: anybody},
	"returnFromOpenID": {needs: anybody},
	"newOwnToken":      {needs: person}, // in a browser
	"newToken":         {needs: anybody},
	"signOut":          {needs: person},
	"me":               {needs: person, tokens: reading},
	"changeMe":         {needs: person},
	"changePassword":   {needs: person},
	"sessions":         {needs: person, tokens: reading},
	"endSessions":      {needs: person},
	"endSession":       {needs: person},
	"tokens":           {needs: person, tokens: reading},
	"revokeToken":      {needs: person},
	"people":           {needs: person, tokens: reading},
	"mentions":         {needs: person, tokens: reading},
	"seeMentions":      {needs: person},
	"newInboxSender":   {needs: person},
	"cases":            {needs: person, tokens: reading}, // those in which the person may look
	"newCase":          {needs: person},
	"importCase":       {needs: person},
	"restoreCase":      {needs: person}, // one that the person leads
	"case":             {needs: mayLook, tokens: reading},
	"members":          {needs: mayLook, tokens: reading},
	"setMember":        {needs: mayLead},
	"removeMember":     {needs: mayLook, full: mayLead}, // people may leave
	"caseTeams":        {needs: mayLook, tokens: reading},
	"addCaseTeam":      {needs: mayLead}, // a team that the person is in
	"removeCaseTeam":   {needs: mayLead},
	// Of a team, a right is what the role in the team gives.
	"teams":                  {needs: person, tokens: reading}, // those that the person is in
	"newTeam":                {needs: person},
	"deleteTeam":             {needs: mayLead},
	"teamMembers":            {needs: mayLook, tokens: reading},
	"setTeamMember":          {needs: mayLead},
	"removeTeamMember":       {needs: mayLook, full: mayLead}, // people may leave
	"invitations":            {needs: mayLead, tokens: reading},
	"invite":                 {needs: mayLead},
	"withdrawInvitation":     {needs: mayLead},
	"teamInvitations":        {needs: mayLead, tokens: reading},
	"inviteToTeam":           {needs: mayLead},
	"withdrawTeamInvitation": {needs: mayLead},
	// Whoever has the secret of an invitation may see what it is to.
	"invitation":       {needs: anybody, tokens: reading},
	"joinWithAccount":  {needs: anybody},
	"acceptInvitation": {needs: person},
	"custody":          {needs: mayLook, tokens: reading},
	"exportCustody":    {needs: mayLook, tokens: reading},
	"closeCase":        {needs: mayWork},
	"reopenCase":       {needs: mayWork},
	"deleteCase":       {needs: mayLead},
	"retain":           {needs: mayLead},
	"exportCase":       {needs: mayLook, secrets: true, tokens: reading},
	"exportMasked":     {needs: mayLook, tokens: reading},
	"mask":             {needs: mayLook, tokens: reading},
	"setMask":          {needs: mayLead},
	"report":           {needs: mayLook, tokens: reading},
	"watchCase":        {needs: mayLook, tokens: reading},
	"activity":         {needs: mayLook, tokens: reading},
	"seeActivity":      {needs: mayLook},
	"notices":          {needs: mayLook, tokens: reading},
	"switchNotices":    {needs: mayLook},
	"hooks":            {needs: mayLook, full: mayLead, tokens: reading}, // the addresses may have secrets in them
	"newHook":          {needs: mayLead},
	"deleteHook":       {needs: mayLead},
	"tryHook":          {needs: mayLead},
	"handOver":         {needs: mayLook, tokens: reading},
	"sendHandOver":     {needs: mayWork},
	"senders":          {needs: mayWork, tokens: reading},
	"newSender":        {needs: mayWork},
	"deleteSender":     {needs: mayWork},
	"evidence":         {needs: mayLook, tokens: reading},
	"oneEvidence":      {needs: mayLook, tokens: watching},
	"upload":           {needs: mayWork, tokens: adding},
	"newUpload":        {needs: mayWork, tokens: adding},
	"uploadOffset":     {needs: mayWork, tokens: adding}, // of the person's own upload, as the next two
	"continueUpload":   {needs: mayWork, tokens: adding},
	"deleteUpload":     {needs: mayWork, tokens: adding},
	"content":          {needs: mayLook, secrets: true, tokens: reading},
	"indexAgain":       {needs: mayWork},
	"setOffset":        {needs: mayWork},
	"alike":            {needs: mayLook, tokens: reading},
	"moveEvidence":     {needs: mayWork}, // in both cases
	"deleteEvidence":   {needs: mayWork, full: mayLead},
	"restoreEvidence":  {needs: mayWork},
	"deleted":          {needs: mayLook, tokens: reading},
	"artifacts":        {needs: mayLook, tokens: reading},
	"uploadArtifact":   {needs: mayWork, tokens: adding},
	"deleteArtifact":   {needs: mayWork, full: mayLead},
	"restoreArtifact":  {needs: mayWork},
	"caseTraces":       {needs: mayLook, tokens: reading},
	"caseTrace":        {needs: mayLook, tokens: reading},
	// A private checkpoint is seen and changed by its person alone.
	"checkpoints":       {needs: mayLook, tokens: reading},
	"newCheckpoint":     {needs: mayWork},
	"changeCheckpoint":  {needs: mayWork},
	"switchCheckpoints": {needs: mayWork},
	"deleteCheckpoints": {needs: mayWork},
	"deleteCheckpoint":  {needs: mayWork},
	"expectations":      {needs: mayLook, tokens: reading},
	"newExpectation":    {needs: mayWork},
	"changeExpectation": {needs: mayWork},
	"deleteExpectation": {needs: mayWork},
	"checks":            {needs: mayLook, tokens: reading},
	"exhibits":          {needs: mayLook, tokens: reading},
	"exhibit":           {needs: mayLook, tokens: reading},
	"newExhibit":        {needs: mayWork},
	"noteExhibit":       {needs: mayWork},
	"deleteExhibit":     {needs: mayWork},
	"comments":          {needs: mayLook, tokens: reading},
	"commentVersions":   {needs: mayLook, tokens: reading},
	"newComment":        {needs: mayWork},
	"editComment":       {needs: mayWork, full: nobody},
	"deleteComment":     {needs: mayWork, full: nobody},
	"theories":          {needs: mayLook, tokens: reading},
	"newTheory":         {needs: mayWork},
	"changeTheory":      {needs: mayWork},
	"deleteTheory":      {needs: mayWork},
	"argue":             {needs: mayWork},
	"unargue":           {needs: mayWork},
	// Everybody who may look may follow and roam; to lead, ask and speak is work.
	"joinSitting":   {needs: mayLook, full: mayWork},
	"sittingOf":     {needs: mayLook, tokens: reading},
	"sittingSteps":  {needs: mayLook, tokens: reading},
	"watchSitting":  {needs: mayLook, full: mayWork, tokens: reading},
	"changeSitting": {needs: mayLook, full: mayWork},
	"sayInSitting":  {needs: mayWork},
}

// questionAccess is that of every question about evidence, unmasked that of those that ask for what is masked.
var (
	questionAccess = access{needs: mayLook, tokens: reading}
	unmasked       = access{needs: mayLook, secrets: true, tokens: reading}
)

// accessOf returns who may do an operation. The first request for one without an entry would panic: a test visits them all.
func accessOf(operation string) access {
	x, ok := accesses[operation]
	if _, isQuestion := ask.Named(operation); !ok && isQuestion {
		return questionAccess
	}
	if !ok {
		panic("the table of rights has no operation " + operation)
	}
	return x
}

// operation is what a request does.
type operation struct {
	name   string
	access access
	// unmasks is set for a question that is answered with what is masked.
	unmasks bool
}

type operationKey struct{}

// does returns what a request does.
func does(ctx context.Context) operation {
	op, _ := ctx.Value(operationKey{}).(operation)
	return op
}

// begin returns the context of a request for an operation, or the error if who asks may not do it at all. Rights in a case are checked by caseFor.
func begin(ctx context.Context, name string) (context.Context, error) {
	op := operation{name: name, access: accessOf(name)}
	if _, isSignedIn := accounts.Who(ctx); !isSignedIn && op.access.needs > anybody {
		return ctx, fault.NotSignedIn
	}
	if scope := accounts.Scope(ctx); scope != store.ScopeWrite && !slices.Contains(op.access.tokens, scope) {
		return ctx, fault.PermissionDenied.New("use a token with another scope", "permission denied: the token is for %s", scopeNames[scope])
	}
	return context.WithValue(ctx, operationKey{}, op), nil
}

var scopeNames = map[string]string{store.ScopeRead: "reading", store.ScopeIngest: "adding evidence"}

// checked refuses requests that begin refuses.
func (a *server) checked(ctx huma.Context, next func(huma.Context)) {
	in, err := begin(ctx.Context(), ctx.Operation().OperationID)
	if err != nil {
		a.write(ctx, err)
		return
	}
	next(huma.WithContext(ctx, in))
}

// stream registers an operation whose body or answer is a stream. It bypasses huma, which reads whole bodies.
func (a *server) stream(h huma.API, r chi.Router, op huma.Operation, do http.HandlerFunc) {
	h.OpenAPI().AddOperation(&op)
	r.Method(op.Method, op.Path, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ctx, err := begin(r.Context(), op.OperationID)
		if err != nil {
			a.fail(w, r, err)
			return
		}
		do(w, r.WithContext(ctx))
	}))
}

// who returns the signed-in person. begin guarantees that there is one.
func who(ctx context.Context) store.Person {
	p, _ := accounts.Who(ctx)
	return p
}

// caseFor returns a case, without its members, if the person has the right in it that the operation needs. Cases of others look as if they did not
// exist.
func (a *server) caseFor(ctx context.Context, name string) (store.Case, error) {
	c, _, err := a.caseAndPart(ctx, name)
	return c, err
}

// caseAndPart is caseFor with the person's part in the case.
func (a *server) caseAndPart(ctx context.Context, name string) (store.Case, store.Member, error) {
	c, me, err := a.Store.CaseFor(ctx, name, who(ctx).ID)
	if err == nil {
		err = has(c, me, does(ctx).access.needs)
	}
	if err == nil && does(ctx).access.secrets && !me.Unmasks {
		err = fault.Masked.New("ask a lead: wraith case add "+c.Name+" "+who(ctx).Name+" --unmask", "permission denied: you may not see what is masked in case %s", c.Name)
	}
	return c, me, err
}

// asUnmasked returns the context of a question that asks for what is masked.
func asUnmasked(ctx context.Context) context.Context {
	return context.WithValue(ctx, operationKey{}, operation{does(ctx).name, unmasked, true})
}

// open opens evidence of a case: masked by the rules of the case, unless the question asks for what is masked.
func (a *server) open(ctx context.Context, c store.Case, e store.Evidence) (replay.Recording, error) {
	return a.Recordings.Open(ctx, e, a.maskFor(ctx, c), nil)
}

// maskFor returns the mask of the answer to an operation; nil if it asks for what is masked.
func (a *server) maskFor(ctx context.Context, c store.Case) *mask.Mask {
	if does(ctx).unmasks {
		return nil
	}
	return a.maskOf(c)
}

// maskOf returns the rules of a case. Those that cannot be read, which were checked when they were set, are no reason to mask nothing.
func (a *server) maskOf(c store.Case) *mask.Mask {
	m, err := a.Recordings.MaskOf(c.Mask)
	if err != nil {
		a.Log.Warn("the rules for masking cannot be read; the defaults are used", "case", c.Name, "error", err)
		return mask.Default
	}
	return m
}

// masked masks what the patterns of a case find in a text that a person wrote.
func (a *server) masked(c store.Case, text string) string {
	text, _ = a.maskOf(c).Text(text, nil)
	return text
}

// has returns an error if a person does not have a right in a case.
func has(c store.Case, me store.Member, needed right) error {
	if rights[me.Role] < needed {
		return fault.PermissionDenied.New("", "permission denied: your role in case %s is %s", c.Name, me.Role)
	}
	return nil
}

// fully returns an error if a person does not have the right that the operation needs for what belongs to others.
func fully(ctx context.Context, c store.Case, me store.Member) error {
	return has(c, me, does(ctx).access.full)
}

// caseWithMembers is caseFor with all members of the case.
func (a *server) caseWithMembers(ctx context.Context, name string) (store.Case, error) {
	c, err := a.caseFor(ctx, name)
	if err != nil {
		return c, err
	}
	c.Members, err = a.Store.MembersOf(ctx, c.ID, "", 0)
	return c, err
}

// caseBody is the input of an operation on a case that has a body.
type caseBody[T any] struct {
	CaseInput
	Body T
}

// note keeps in a case's record what the person did.
func (a *server) note(ctx context.Context, c store.Case, format string, args ...any) error {
	err := a.Store.Note(ctx, c.ID, who(ctx).ID, fmt.Sprintf(format, args...))
	a.live.Changed(c.ID)
	return err
}

// evidenceFor returns evidence of a case, with the case, if the person has the right that the operation needs.
func (a *server) evidenceFor(ctx context.Context, in EvidenceInput) (c store.Case, e store.Evidence, err error) {
	if c, err = a.caseFor(ctx, in.Case); err != nil {
		return c, e, err
	}
	e, err = a.Store.EvidenceByName(ctx, c.ID, in.Evidence)
	return c, e, err
}

// recording opens evidence of a case that the person can read.
func (a *server) recording(ctx context.Context, caseName, name string) (replay.Recording, store.Case, store.Evidence, error) {
	c, e, err := a.evidenceFor(ctx, EvidenceInput{caseName, name})
	switch {
	case err != nil:
		return nil, c, e, err
	case e.State == api.StateIndexing:
		return nil, c, e, fmt.Errorf("evidence %s: %w", name, fault.Indexing)
	case e.State == api.StateFailed:
		return nil, c, e, fault.Unreadable.New("", "%s", e.Trouble)
	}
	r, err := a.open(ctx, c, e)
	return r, c, e, err
}
