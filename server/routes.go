package server

import (
	"net/http"

	"entelon/people"
	"entelon/server/api"
)

var scoping = param{"scope", "string", "only the samples that this expression holds, such as: thread is worker-* and not idle", false}

var timeRange = []param{
	scoping,
	{"from", "integer", "first nanosecond of the take that counts", false},
	{"to", "integer", "nanosecond at which counting ends; 0 means the end", false},
}

var shaping = []param{
	{"fold", "string", "runtime: functions of the language runtime count as their callers'; foreign: what is not the program's own counts as the call into it", false},
	{"group", "string", "thread, process or module: what stands at the roots", false},
	{"merge", "boolean", "recursion is one node", false},
	{"through", "string", "only stacks with this function, from its outermost frame on", false},
	{"through_module", "string", "that function's library, if its name is not enough", false},
}

var measuring = param{"measure", "string", "which of the take's measures counts; absent: the first", false}

var ofProgram = param{"measure", "string", "which measure counts; absent: what most takes show first", false}

var ofWorkload = param{"workload", "integer", "number of the workload whose takes count; absent: the one with the most takes that can be compared", false}

var comparing = []param{
	{"baseline", "string", "keys of takes, with commas", true},
	{"candidate", "string", "keys of takes, with commas", true},
	{"scale", "string", "run, work, second, cpu-second, unchanged (only compared) or share; absent: what suits the takes", false},
	measuring,
	scoping,
}

func with(more ...param) []param {
	return append(append(append([]param{}, timeRange...), shaping...), append([]param{measuring}, more...)...)
}

// table is the whole API. It works on a Server without a store, too, as long
// as no handler is called.
func (s *Server) table() []route {
	return append([]route{
		{needs: people.Look, method: http.MethodGet, path: "/about", summary: "What this server is", answer: api.AboutOut{}, handle: takeRoutes{s}.about},
		{needs: people.Look, method: http.MethodGet, path: "/me", summary: "Who is signed in", answer: api.MeOut{}, handle: signInRoutes{s}.me},
		{needs: needPerson, method: http.MethodPatch, path: "/me", summary: "Change one's own name or password", body: api.ChangeMeIn{}, answer: api.MeOut{}, audit: "own name or password changed", handle: signInRoutes{s}.changeMe},
		{needs: needNothing, method: http.MethodPost, path: "/enter", summary: "Sign in by a link, which works once", body: api.EnterIn{}, answer: api.MeOut{}, handle: signInRoutes{s}.enter},
		{needs: needNothing, method: http.MethodPost, path: "/sign-in", summary: "Sign in by name and password", body: api.SignInIn{}, answer: api.MeOut{}, handle: signInRoutes{s}.signIn},
		{needs: needNothing, method: http.MethodPost, path: "/sign-out", summary: "Sign out", status: http.StatusNoContent, handle: signInRoutes{s}.signOut},
		{needs: needPerson, method: http.MethodGet, path: "/me/tokens", summary: "One's own tokens", answer: api.TokensOut{}, handle: peopleRoutes{s}.tokens},
		{needs: needPerson, method: http.MethodPost, path: "/me/tokens", summary: "Make a token; its secret is told this once", body: api.TokenIn{}, answer: api.NewTokenOut{}, status: http.StatusCreated, handle: peopleRoutes{s}.addToken},
		{needs: needPerson, method: http.MethodDelete, path: "/me/tokens/{id}", summary: "Remove a token", status: http.StatusNoContent, handle: peopleRoutes{s}.removeToken},
		{needs: needOwner, method: http.MethodGet, path: "/people", summary: "Everybody who may sign in", answer: api.PeopleOut{}, handle: peopleRoutes{s}.people},
		{needs: needOwner, method: http.MethodPost, path: "/people", summary: "Add a person, with a link to sign in by", body: api.PersonIn{}, answer: api.PersonLinkOut{}, status: http.StatusCreated, handle: peopleRoutes{s}.addPerson},
		{needs: needOwner, method: http.MethodPatch, path: "/people/{id}", summary: "Change a person's role, or lock them out", body: api.PersonChangeIn{}, answer: api.PersonOut{}, handle: peopleRoutes{s}.changePerson},
		{needs: needOwner, method: http.MethodPost, path: "/people/{id}/link", summary: "Make a new link to sign in by", answer: api.PersonLinkOut{}, status: http.StatusCreated, handle: peopleRoutes{s}.linkFor},
		{needs: needOwner, method: http.MethodGet, path: "/audit", summary: "What was done, by whom", answer: api.AuditOut{}, handle: peopleRoutes{s}.audit, query: []param{
			{"limit", "integer", "how many lines, the newest first", false},
		}},
		{needs: needOwner, method: http.MethodPost, path: "/collectors", summary: "Make a link by which a collector can enrol, once", body: api.CollectorNameIn{}, answer: api.CollectorLinkOut{}, status: http.StatusCreated, handle: collectorRoutes{s}.addCollector},
		{needs: needOwner, method: http.MethodDelete, path: "/collectors/{name}", summary: "Remove a collector; its key is worth nothing any more", status: http.StatusNoContent, handle: collectorRoutes{s}.removeCollector},
		{needs: needNothing, method: http.MethodPost, path: "/collector/enrol", summary: "For collectors: hand in a public key, by a link that works once", body: api.EnrolIn{}, answer: api.CollectorNameIn{}, handle: collectorRoutes{s}.enrol},
		{needs: needNothing, method: http.MethodPost, path: "/collector/challenge", summary: "For collectors: something to sign", answer: api.ChallengeOut{}, handle: collectorRoutes{s}.challenge},
		{needs: needNothing, method: http.MethodPost, path: "/collector/session", summary: "For collectors: begin a session with a signed challenge", body: api.CollectorSessionIn{}, answer: api.CollectorSessionOut{}, handle: collectorRoutes{s}.beginCollector},
		{needs: needCollector, method: http.MethodPost, path: "/collector/key", summary: "For collectors: replace the key", body: api.CollectorKeyIn{}, status: http.StatusNoContent, handle: collectorRoutes{s}.renewCollector},
		{needs: people.Look, method: http.MethodGet, path: "/jobs", summary: "Takes that are being made, or were", answer: api.JobsOut{}, handle: jobRoutes{s}.jobs, query: []param{
			{"running", "boolean", "only those that are being made", false},
		}},
		{needs: people.Collect, method: http.MethodPost, path: "/jobs", summary: "Have a take made", body: api.JobIn{}, most: jobBody, answer: api.JobOut{}, status: http.StatusAccepted, handle: jobRoutes{s}.addJob},
		{needs: people.Look, method: http.MethodGet, path: "/jobs/{id}", summary: "A take that is being made, or was", answer: api.JobOut{}, handle: jobRoutes{s}.job},
		{needs: people.Collect, method: http.MethodPost, path: "/jobs/{id}/stop", summary: "End a take that is being made; what was collected is kept", answer: api.JobOut{}, handle: jobRoutes{s}.stopJob},
		{needs: people.Collect, method: http.MethodPost, path: "/counts", load: asleep, summary: "Count the calls of a function exactly", body: api.CountIn{}, most: jobBody, answer: api.CountOut{}, handle: jobRoutes{s}.count},
		{needs: people.Look, method: http.MethodGet, path: "/collectors", summary: "Collectors with what their machines allow", answer: api.CollectorsOut{}, handle: collectorRoutes{s}.collectors},
		{needs: people.Collect, method: http.MethodGet, path: "/collectors/{name}/processes", load: asleep, summary: "The processes that run on a collector's machine", answer: api.ProcessesOut{}, handle: jobRoutes{s}.processes},
		{needs: people.Collect, method: http.MethodGet, path: "/collectors/{name}/groups", load: asleep, summary: "The control groups in which something runs on a collector's machine", answer: api.GroupsOut{}, handle: jobRoutes{s}.groups},
		{needs: people.Collect, method: http.MethodGet, path: "/collectors/{name}/measures", load: asleep, summary: "What can be measured on a collector's machine, by a part of its name", answer: api.MeasurablesOut{}, handle: jobRoutes{s}.measurables, query: []param{
			{"begun", "string", "a part of the name, such as tracepoint:sched", false},
			{"pid", "integer", "a process whose functions are listed, too, for a name that begins with function:", false},
		}},
		{needs: needCollector, method: http.MethodPost, path: "/collector/next", load: asleep, summary: "For collectors: the next job", body: api.CollectorIn{}, most: 1 << 20, answer: api.NextJobOut{}, handle: collectorRoutes{s}.nextJob},
		{needs: needCollector, method: http.MethodPost, path: "/collector/jobs/{id}/blocks", load: bulky, summary: "For collectors: what a growing take has gained", octets: true, answer: api.GrowOut{}, handle: collectorRoutes{s}.grow, query: []param{
			{"at", "integer", "where in the file it begins", true},
			{"elapsed_ns", "integer", "since the take began", false},
			{"samples", "integer", "so far", false},
			{"lost", "integer", "so far", false},
		}},
		{needs: needCollector, method: http.MethodPost, path: "/collector/jobs/{id}/end", load: bulky, summary: "For collectors: a job has ended", body: api.JobEndIn{}, most: answerBody, answer: api.JobOut{}, handle: collectorRoutes{s}.endJob},
		{needs: people.Look, method: http.MethodGet, path: "/measures", summary: "What a take can add up", answer: api.MeasuresOut{}, handle: s.measures},
		{needs: people.Look, method: http.MethodGet, path: "/programs", summary: "All programs with their builds", answer: api.ProgramsOut{}, handle: takeRoutes{s}.programs},
		{needs: people.Look, method: http.MethodGet, path: "/programs/{name}/ledger", load: heavy, summary: "A program's builds side by side, function by function", answer: api.LedgerOut{}, handle: ledgerRoutes{s}.ledger, query: []param{
			{"scale", "string", "run, work, second, cpu-second, unchanged (only compared) or share; absent: what suits the takes", false},
			ofProgram, ofWorkload,
		}},
		{needs: people.Look, method: http.MethodGet, path: "/programs/{name}/function", load: heavy, summary: "One function over all builds of a program", answer: api.OverOut{}, handle: ledgerRoutes{s}.over, query: []param{
			{"name", "string", "full name of the function", true},
			{"scale", "string", "run, work, second, cpu-second, unchanged (only compared) or share; absent: what suits the takes", false},
			ofProgram, ofWorkload,
		}},
		{needs: people.Look, method: http.MethodGet, path: "/programs/{name}/workloads", summary: "What a program was made to do in its takes", answer: api.WorkloadsOut{}, handle: workloadRoutes{s}.workloads},
		{needs: people.Work, method: http.MethodPatch, path: "/programs/{name}/workloads/{id}", summary: "Name a workload", body: api.WorkloadNameIn{}, answer: api.WorkloadsOut{}, audit: "workload named", handle: workloadRoutes{s}.nameWorkload},
		{needs: people.Work, method: http.MethodPost, path: "/programs/{name}/workloads/merge", summary: "Merge workloads with another one", body: api.WorkloadsMergeIn{}, answer: api.WorkloadsOut{}, audit: "workloads merged", handle: workloadRoutes{s}.mergeWorkloads},
		{needs: people.Work, method: http.MethodPost, path: "/programs/{name}/workloads/move", summary: "Move takes to another workload", body: api.TakesMoveIn{}, most: 1 << 20, answer: api.WorkloadsOut{}, audit: "takes moved to another workload", handle: workloadRoutes{s}.moveTakes},
		{needs: people.Work, method: http.MethodPost, path: "/programs/{name}/workloads/undo", summary: "Undo the newest change of a program's workloads", answer: api.WorkloadsOut{}, audit: "change of workloads undone", handle: workloadRoutes{s}.undoWorkloads},
		{needs: people.Look, method: http.MethodGet, path: "/programs/{name}/matches", summary: "What was said by hand of functions that changed their name", answer: api.MatchesOut{}, handle: compareRoutes{s}.matches},
		{needs: people.Work, method: http.MethodPost, path: "/programs/{name}/matches", summary: "Say that two names are one function, or not", body: api.MatchIn{}, answer: api.MatchesOut{}, audit: "names matched by hand", handle: compareRoutes{s}.setMatch},
		{needs: people.Look, method: http.MethodGet, path: "/takes", summary: "Takes, searched and sorted", answer: api.TakesOut{}, handle: takeRoutes{s}.takes, query: []param{
			{"search", "string", "words that all occur in program, build, note, command or host", false},
			{"program", "string", "exact name of a program", false},
			{"workload", "integer", "only the takes of the workload of this number", false},
			{"series", "string", "only the takes of this row", false},
			{"sort", "string", "started, program, build, duration, cpu, samples or warnings", false},
			{"descending", "boolean", "the largest first", false},
			{"limit", "integer", "rows, 1000 at most", false},
			{"offset", "integer", "rows to leave out first", false},
		}},
		{needs: people.Work, method: http.MethodPost, path: "/takes", load: bulky, summary: "Add a take; the body is the file", octets: true, answer: api.AddedOut{}, status: http.StatusCreated, audit: "take sent", handle: takeRoutes{s}.addTake,
			query: []param{{"name", "string", "the file's name, for errors", false}}},
		{needs: people.Look, method: http.MethodGet, path: "/takes/{key}", load: heavy, summary: "A take without its samples", answer: api.TakeDetail{}, handle: takeRoutes{s}.take},
		{needs: people.Work, method: http.MethodPatch, path: "/takes/{key}", summary: "Replace a take's note", body: api.NoteIn{}, answer: api.TakeOut{}, audit: "take's note changed", handle: takeRoutes{s}.setNote},
		{needs: people.Work, method: http.MethodDelete, path: "/takes/{key}", summary: "Remove a take", status: http.StatusNoContent, audit: "take removed", handle: takeRoutes{s}.removeTake},
		{needs: people.Look, method: http.MethodGet, path: "/takes/{key}/notes", summary: "Notes on a take and on the functions of its program", answer: api.RemarksOut{}, handle: noteRoutes{s}.notes},
		{needs: people.Work, method: http.MethodPost, path: "/takes/{key}/notes", summary: "Write a note on a take or a function", body: api.RemarkIn{}, answer: api.RemarkOut{}, status: http.StatusCreated, audit: "note written", handle: noteRoutes{s}.addNote},
		{needs: people.Work, method: http.MethodPatch, path: "/notes/{id}", summary: "Replace a note", body: api.RemarkIn{}, answer: api.RemarkOut{}, audit: "note changed", handle: noteRoutes{s}.changeNote},
		{needs: people.Work, method: http.MethodPut, path: "/notes/{id}/settled", summary: "Say that a note asks for nothing any more, or does again", body: api.SettledIn{}, answer: api.RemarkOut{}, audit: "note settled or opened", handle: noteRoutes{s}.settleNote},
		{needs: people.Work, method: http.MethodDelete, path: "/notes/{id}", summary: "Remove a note", status: http.StatusNoContent, audit: "note removed", handle: noteRoutes{s}.removeNote},
		{needs: people.Look, method: http.MethodGet, path: "/programs/{name}/pins", summary: "Functions that stand on top of a program's lists", answer: api.PinsOut{}, handle: noteRoutes{s}.pins},
		{needs: people.Work, method: http.MethodPost, path: "/programs/{name}/pins", summary: "Pin a function, or let it go", body: api.PinIn{}, answer: api.PinsOut{}, audit: "pins changed", handle: noteRoutes{s}.setPin},
		{needs: people.Look, method: http.MethodGet, path: "/programs/{name}/sources", summary: "Where a program's source is", answer: api.SourceRules{}, handle: sourceRoutes{s}.sourceRules},
		{needs: people.Work, method: http.MethodPut, path: "/programs/{name}/sources", summary: "Replace the rules for where a program's source is", body: api.SourceRulesIn{}, most: 1 << 20, answer: api.SourceRules{}, audit: "rules for source changed", handle: sourceRoutes{s}.setSourceRules},
		{needs: people.Look, method: http.MethodGet, path: "/takes/{key}/file", load: bulky, summary: "The take's file", file: "application/octet-stream", handle: takeRoutes{s}.file},
		{needs: people.Look, method: http.MethodGet, path: "/takes/{key}/hot", load: shared, summary: "Hot functions and the reading", answer: api.HotOut{}, handle: s.same(lensRoutes{s}.hot, nil), query: with(
			param{"bare", "boolean", "functions by their number alone, which /functions explains", false},
		)},
		{needs: people.Look, method: http.MethodGet, path: "/takes/{key}/functions", load: shared, summary: "All functions of a take by their number", answer: api.FunctionsOut{}, handle: s.same(lensRoutes{s}.functions, nil), query: shaping},
		{needs: people.Look, method: http.MethodGet, path: "/takes/{key}/flame", load: shared, summary: "The flame graph, laid out", answer: api.FlameOut{}, handle: s.same(lensRoutes{s}.flame, lensRoutes{s}.pinsOf), query: with(
			param{"root", "integer", "node to dive into", false},
			param{"order", "string", "of siblings: cost, name or first", false},
			param{"pixels", "integer", "width of the drawing; thinner frames go into bands", false},
		)},
		{needs: people.Look, method: http.MethodGet, path: "/takes/{key}/search", load: shared, summary: "Find functions in the flame graph", answer: api.SearchOut{}, handle: s.same(lensRoutes{s}.search, nil), query: with(
			param{"text", "string", "part of a name", true},
			param{"root", "integer", "node to search below", false},
		)},
		{needs: people.Look, method: http.MethodGet, path: "/takes/{key}/function", load: heavy, summary: "One function: cost, callers, callees, other builds", answer: api.FunctionOut{}, handle: lensRoutes{s}.function, query: with(
			param{"name", "string", "its full name", true},
			param{"module", "string", "its library's name, if the name is not enough", false},
		)},
		{needs: people.Look, method: http.MethodGet, path: "/takes/{key}/builds", load: heavy, summary: "One function in the newest take of each build, in a scope", answer: api.BuildsOut{}, handle: lensRoutes{s}.builds, query: append(append([]param{}, timeRange...), measuring,
			param{"name", "string", "its full name", true},
			param{"module", "string", "its library's name, if the name is not enough", false},
		)},
		{needs: people.Look, method: http.MethodGet, path: "/takes/{key}/threads", load: shared, summary: "The cost by thread", answer: api.ThreadsOut{}, handle: s.same(lensRoutes{s}.threads, nil), query: with()},
		{needs: people.Look, method: http.MethodGet, path: "/takes/{key}/scope", load: shared, summary: "A scope expression as it is understood, or what is wrong with it", answer: api.ScopeOut{}, handle: s.same(lensRoutes{s}.scope, nil), query: []param{scoping}},
		{needs: people.Look, method: http.MethodGet, path: "/takes/{key}/kept", load: shared, summary: "How much of a take a scope keeps", answer: api.KeptOut{}, handle: s.same(lensRoutes{s}.kept, nil), query: with()},
		{needs: people.Look, method: http.MethodGet, path: "/takes/{key}/complete", load: shared, summary: "How a scope expression may go on", answer: api.CompleteOut{}, handle: s.same(lensRoutes{s}.complete, nil), query: []param{
			{"text", "string", "what stands there already", false},
			{"at", "integer", "where, in characters from 0", false},
		}},
		{needs: people.Look, method: http.MethodGet, path: "/takes/{key}/paths", load: shared, summary: "The steps that follow one of a path", answer: api.PathsOut{}, handle: s.same(lensRoutes{s}.paths, nil), query: with(
			param{"start", "string", "roots (the default) or leaves", false},
			param{"node", "integer", "from the roots: the step whose followers are asked for; 0 is the beginning", false},
			param{"path", "string", "from the leaves: the numbers of the functions up to there, with commas", false},
			param{"heaviest", "boolean", "tell the heaviest path, too", false},
		)},
		{needs: people.Look, method: http.MethodGet, path: "/takes/{key}/neighbours", load: shared, summary: "Where a function's cost comes in and where it goes on", answer: api.NeighboursOut{}, handle: s.same(lensRoutes{s}.neighbours, nil), query: with(
			param{"name", "string", "its full name", true},
			param{"module", "string", "its library's name, if the name is not enough", false},
			param{"levels", "integer", "how far, 1 to 5", false},
			param{"most", "integer", "functions that stand alone on each level", false},
		)},
		{needs: people.Look, method: http.MethodGet, path: "/takes/{key}/lines", load: heavy, summary: "A function's file, line by line", answer: api.LinesOut{}, handle: sourceRoutes{s}.lines, query: with(
			param{"name", "string", "the function's full name", true},
			param{"module", "string", "its library's name, if the name is not enough", false},
		)},
		{needs: people.Look, method: http.MethodGet, path: "/takes/{key}/graph", load: shared, summary: "The call graph without its thin parts", answer: api.GraphOut{}, handle: s.same(lensRoutes{s}.graph, nil), query: with(
			param{"most", "integer", "functions", false},
			param{"least_permille", "integer", "share of the total from which on functions and calls are told", false},
		)},
		{needs: people.Look, method: http.MethodGet, path: "/takes/{key}/times", load: shared, summary: "Samples over time", answer: api.TimesOut{}, handle: s.same(lensRoutes{s}.times, nil), query: []param{
			{"bins", "integer", "how many pieces the time is cut into", false},
			measuring,
		}},
		{needs: people.Look, method: http.MethodGet, path: "/compare", load: heavy, summary: "Two takes, or two groups of takes: what differs, how sure that is, and what explains it", answer: api.CompareOut{}, handle: compareRoutes{s}.compare, query: comparing},
		{needs: people.Look, method: http.MethodGet, path: "/compare/mirror", load: heavy, summary: "The flame graphs of both sides, in one order and on one scale", answer: api.MirrorOut{}, handle: compareRoutes{s}.mirror, query: append(append([]param{}, comparing...),
			param{"pixels", "integer", "width of the drawing; thinner frames are left out", false},
		)},
		{needs: people.Look, method: http.MethodGet, path: "/compare/lines", load: heavy, summary: "The lines of a function's file on both sides", answer: api.CompareLines{}, handle: compareRoutes{s}.compareLines, query: append(append([]param{}, comparing...),
			param{"name", "string", "full name of the function, as either side has it", true},
		)},
		{needs: people.Look, method: http.MethodGet, path: "/compare/report.html", load: heavy, summary: "The comparison as one page that holds all it needs", file: "text/html", handle: compareRoutes{s}.compareReport(), query: comparing},
		{needs: people.Look, method: http.MethodGet, path: "/compare/summary.md", load: heavy, summary: "The comparison as a comment for a merge request", file: "text/markdown", handle: compareRoutes{s}.compareMarkdown(), query: comparing},
	}, takeRoutes{s}.exports(with)...)
}
