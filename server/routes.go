package server

import (
	"net/http"

	"entelon/people"
	"entelon/server/api"
	"entelon/server/collecting"
	"entelon/server/comparing"
	"entelon/server/request"
	"entelon/server/viewing"
)

var scoping = request.Query("scope", "string", "only the samples that this expression holds, such as: thread is worker-* and not idle", false)

var timeRange = []request.Param{
	scoping,
	request.Query("from", "integer", "first nanosecond of the take that counts", false),
	request.Query("to", "integer", "nanosecond at which counting ends; 0 means the end", false),
}

var shaping = []request.Param{
	request.Query("fold", "string", "runtime: functions of the language runtime count as their callers'; foreign: what is not the program's own counts as the call into it", false),
	request.Query("group", "string", "thread, process or module: what stands at the roots", false),
	request.Query("merge", "boolean", "recursion is one node", false),
	request.Query("through", "string", "only stacks with this function, from its outermost frame on", false),
	request.Query("through_module", "string", "that function's library, if its name is not enough", false),
}

var measuring = request.Query("measure", "string", "which of the take's measures counts; absent: the first", false)

var ofProgram = request.Query("measure", "string", "which measure counts; absent: what most takes show first", false)

var ofWorkload = request.Query("workload", "integer", "number of the workload whose takes count; absent: the one with the most takes that can be compared", false)

var sides = []request.Param{
	request.Query("baseline", "string", "keys of takes, with commas", true),
	request.Query("candidate", "string", "keys of takes, with commas", true),
	request.Query("scale", "string", "run, work, second, cpu-second, unchanged (only compared) or share; absent: what suits the takes", false),
	measuring,
	scoping,
}

func with(more ...request.Param) []request.Param {
	return append(append(append([]request.Param{}, timeRange...), shaping...), append([]request.Param{measuring}, more...)...)
}

// table is the whole API. It works on a Server without a store, too, as long
// as no handler is called.
func table(s *request.Server) []request.Route {
	return append([]request.Route{
		{Needs: people.Look, Method: http.MethodGet, Path: "/about", Summary: "What this server is", Answer: api.AboutOut{}, Handle: viewing.TakeRoutes{Server: s}.About},
		{Needs: people.Look, Method: http.MethodGet, Path: "/me", Summary: "Who is signed in", Answer: api.MeOut{}, Handle: request.SignInRoutes{Server: s}.Me},
		{Needs: request.NeedPerson, Method: http.MethodPatch, Path: "/me", Summary: "Change one's own name or password", Body: api.ChangeMeIn{}, Answer: api.MeOut{}, Audit: "own name or password changed", Handle: request.SignInRoutes{Server: s}.ChangeMe},
		{Needs: request.NeedNothing, Method: http.MethodPost, Path: "/enter", Summary: "Sign in by a link, which works once", Body: api.EnterIn{}, Answer: api.MeOut{}, Handle: request.SignInRoutes{Server: s}.Enter},
		{Needs: request.NeedNothing, Method: http.MethodPost, Path: "/sign-in", Summary: "Sign in by name and password", Body: api.SignInIn{}, Answer: api.MeOut{}, Handle: request.SignInRoutes{Server: s}.SignIn},
		{Needs: request.NeedNothing, Method: http.MethodPost, Path: "/sign-out", Summary: "Sign out", Status: http.StatusNoContent, Handle: request.SignInRoutes{Server: s}.SignOut},
		{Needs: request.NeedPerson, Method: http.MethodGet, Path: "/me/tokens", Summary: "One's own tokens", Answer: api.TokensOut{}, Handle: peopleRoutes{s}.tokens},
		{Needs: request.NeedPerson, Method: http.MethodPost, Path: "/me/tokens", Summary: "Make a token; its secret is told this once", Body: api.TokenIn{}, Answer: api.NewTokenOut{}, Status: http.StatusCreated, Handle: peopleRoutes{s}.addToken},
		{Needs: request.NeedPerson, Method: http.MethodDelete, Path: "/me/tokens/{id}", Summary: "Remove a token", Status: http.StatusNoContent, Handle: peopleRoutes{s}.removeToken},
		{Needs: request.NeedOwner, Method: http.MethodGet, Path: "/people", Summary: "Everybody who may sign in", Answer: api.PeopleOut{}, Handle: peopleRoutes{s}.people},
		{Needs: request.NeedOwner, Method: http.MethodPost, Path: "/people", Summary: "Add a person, with a link to sign in by", Body: api.PersonIn{}, Answer: api.PersonLinkOut{}, Status: http.StatusCreated, Handle: peopleRoutes{s}.addPerson},
		{Needs: request.NeedOwner, Method: http.MethodPatch, Path: "/people/{id}", Summary: "Change a person's role, or lock them out", Body: api.PersonChangeIn{}, Answer: api.PersonOut{}, Handle: peopleRoutes{s}.changePerson},
		{Needs: request.NeedOwner, Method: http.MethodPost, Path: "/people/{id}/link", Summary: "Make a new link to sign in by", Answer: api.PersonLinkOut{}, Status: http.StatusCreated, Handle: peopleRoutes{s}.linkFor},
		{Needs: request.NeedOwner, Method: http.MethodGet, Path: "/audit", Summary: "What was done, by whom", Answer: api.AuditOut{}, Handle: peopleRoutes{s}.audit, Query: []request.Param{
			request.Query("limit", "integer", "how many lines, the newest first", false),
		}},
		{Needs: request.NeedOwner, Method: http.MethodPost, Path: "/collectors", Summary: "Make a link by which a collector can enrol, once", Body: api.CollectorNameIn{}, Answer: api.CollectorLinkOut{}, Status: http.StatusCreated, Handle: collecting.CollectorRoutes{Server: s}.AddCollector},
		{Needs: request.NeedOwner, Method: http.MethodDelete, Path: "/collectors/{name}", Summary: "Remove a collector; its key is worth nothing any more", Status: http.StatusNoContent, Handle: collecting.CollectorRoutes{Server: s}.RemoveCollector},
		{Needs: request.NeedNothing, Method: http.MethodPost, Path: "/collector/enrol", Summary: "For collectors: hand in a public key, by a link that works once", Body: api.EnrolIn{}, Answer: api.CollectorNameIn{}, Handle: collecting.CollectorRoutes{Server: s}.Enrol},
		{Needs: request.NeedNothing, Method: http.MethodPost, Path: "/collector/challenge", Summary: "For collectors: something to sign", Answer: api.ChallengeOut{}, Handle: collecting.CollectorRoutes{Server: s}.Challenge},
		{Needs: request.NeedNothing, Method: http.MethodPost, Path: "/collector/session", Summary: "For collectors: begin a session with a signed challenge", Body: api.CollectorSessionIn{}, Answer: api.CollectorSessionOut{}, Handle: collecting.CollectorRoutes{Server: s}.BeginCollector},
		{Needs: request.NeedCollector, Method: http.MethodPost, Path: "/collector/key", Summary: "For collectors: replace the key", Body: api.CollectorKeyIn{}, Status: http.StatusNoContent, Handle: collecting.CollectorRoutes{Server: s}.RenewCollector},
		{Needs: people.Look, Method: http.MethodGet, Path: "/jobs", Summary: "Takes that are being made, or were", Answer: api.JobsOut{}, Handle: collecting.JobRoutes{Server: s}.Jobs, Query: []request.Param{
			request.Query("running", "boolean", "only those that are being made", false),
		}},
		{Needs: people.Collect, Method: http.MethodPost, Path: "/jobs", Summary: "Have a take made", Body: api.JobIn{}, Most: request.JobBody, Answer: api.JobOut{}, Status: http.StatusAccepted, Handle: collecting.JobRoutes{Server: s}.AddJob},
		{Needs: people.Look, Method: http.MethodGet, Path: "/jobs/{id}", Summary: "A take that is being made, or was", Answer: api.JobOut{}, Handle: collecting.JobRoutes{Server: s}.Job},
		{Needs: people.Collect, Method: http.MethodPost, Path: "/jobs/{id}/stop", Summary: "End a take that is being made; what was collected is kept", Answer: api.JobOut{}, Handle: collecting.JobRoutes{Server: s}.StopJob},
		{Needs: people.Collect, Method: http.MethodPost, Path: "/counts", Load: request.Asleep, Summary: "Count the calls of a function exactly", Body: api.CountIn{}, Most: request.JobBody, Answer: api.CountOut{}, Handle: collecting.JobRoutes{Server: s}.Count},
		{Needs: people.Look, Method: http.MethodGet, Path: "/collectors", Summary: "Collectors with what their machines allow", Answer: api.CollectorsOut{}, Handle: collecting.CollectorRoutes{Server: s}.Collectors},
		{Needs: people.Collect, Method: http.MethodGet, Path: "/collectors/{name}/processes", Load: request.Asleep, Summary: "The processes that run on a collector's machine", Answer: api.ProcessesOut{}, Handle: collecting.JobRoutes{Server: s}.Processes},
		{Needs: people.Collect, Method: http.MethodGet, Path: "/collectors/{name}/groups", Load: request.Asleep, Summary: "The control groups in which something runs on a collector's machine", Answer: api.GroupsOut{}, Handle: collecting.JobRoutes{Server: s}.Groups},
		{Needs: people.Collect, Method: http.MethodGet, Path: "/collectors/{name}/measures", Load: request.Asleep, Summary: "What can be measured on a collector's machine, by a part of its name", Answer: api.MeasurablesOut{}, Handle: collecting.JobRoutes{Server: s}.Measurables, Query: []request.Param{
			request.Query("begun", "string", "a part of the name, such as tracepoint:sched", false),
			request.Query("pid", "integer", "a process whose functions are listed, too, for a name that begins with function:", false),
		}},
		{Needs: request.NeedCollector, Method: http.MethodPost, Path: "/collector/next", Load: request.Asleep, Summary: "For collectors: the next job", Body: api.CollectorIn{}, Most: 1 << 20, Answer: api.NextJobOut{}, Handle: collecting.CollectorRoutes{Server: s}.NextJob},
		{Needs: request.NeedCollector, Method: http.MethodPost, Path: "/collector/jobs/{id}/blocks", Load: request.Bulky, Summary: "For collectors: what a growing take has gained", Octets: true, Answer: api.GrowOut{}, Handle: collecting.CollectorRoutes{Server: s}.Grow, Query: []request.Param{
			request.Query("at", "integer", "where in the file it begins", true),
			request.Query("elapsed_ns", "integer", "since the take began", false),
			request.Query("samples", "integer", "so far", false),
			request.Query("lost", "integer", "so far", false),
		}},
		{Needs: request.NeedCollector, Method: http.MethodPost, Path: "/collector/jobs/{id}/end", Load: request.Bulky, Summary: "For collectors: a job has ended", Body: api.JobEndIn{}, Most: request.AnswerBody, Answer: api.JobOut{}, Handle: collecting.CollectorRoutes{Server: s}.EndJob},
		{Needs: people.Look, Method: http.MethodGet, Path: "/measures", Summary: "What a take can add up", Answer: api.MeasuresOut{}, Handle: viewing.TakeRoutes{Server: s}.Measures},
		{Needs: people.Look, Method: http.MethodGet, Path: "/programs", Summary: "All programs with their builds", Answer: api.ProgramsOut{}, Handle: viewing.TakeRoutes{Server: s}.Programs},
		{Needs: people.Look, Method: http.MethodGet, Path: "/programs/{name}/ledger", Load: request.Heavy, Summary: "A program's builds side by side, function by function", Answer: api.LedgerOut{}, Handle: comparing.LedgerRoutes{Server: s}.Ledger, Query: []request.Param{
			request.Query("scale", "string", "run, work, second, cpu-second, unchanged (only compared) or share; absent: what suits the takes", false),
			ofProgram, ofWorkload,
		}},
		{Needs: people.Look, Method: http.MethodGet, Path: "/programs/{name}/function", Load: request.Heavy, Summary: "One function over all builds of a program", Answer: api.OverOut{}, Handle: comparing.LedgerRoutes{Server: s}.Over, Query: []request.Param{
			request.Query("name", "string", "full name of the function", true),
			request.Query("scale", "string", "run, work, second, cpu-second, unchanged (only compared) or share; absent: what suits the takes", false),
			ofProgram, ofWorkload,
		}},
		{Needs: people.Look, Method: http.MethodGet, Path: "/programs/{name}/workloads", Summary: "What a program was made to do in its takes", Answer: api.WorkloadsOut{}, Handle: viewing.WorkloadRoutes{Server: s}.Workloads},
		{Needs: people.Work, Method: http.MethodPatch, Path: "/programs/{name}/workloads/{id}", Summary: "Name a workload", Body: api.WorkloadNameIn{}, Answer: api.WorkloadsOut{}, Audit: "workload named", Handle: viewing.WorkloadRoutes{Server: s}.NameWorkload},
		{Needs: people.Work, Method: http.MethodPost, Path: "/programs/{name}/workloads/merge", Summary: "Merge workloads with another one", Body: api.WorkloadsMergeIn{}, Answer: api.WorkloadsOut{}, Audit: "workloads merged", Handle: viewing.WorkloadRoutes{Server: s}.MergeWorkloads},
		{Needs: people.Work, Method: http.MethodPost, Path: "/programs/{name}/workloads/move", Summary: "Move takes to another workload", Body: api.TakesMoveIn{}, Most: 1 << 20, Answer: api.WorkloadsOut{}, Audit: "takes moved to another workload", Handle: viewing.WorkloadRoutes{Server: s}.MoveTakes},
		{Needs: people.Work, Method: http.MethodPost, Path: "/programs/{name}/workloads/undo", Summary: "Undo the newest change of a program's workloads", Answer: api.WorkloadsOut{}, Audit: "change of workloads undone", Handle: viewing.WorkloadRoutes{Server: s}.UndoWorkloads},
		{Needs: people.Look, Method: http.MethodGet, Path: "/programs/{name}/matches", Summary: "What was said by hand of functions that changed their name", Answer: api.MatchesOut{}, Handle: viewing.MatchRoutes{Server: s}.Matches},
		{Needs: people.Work, Method: http.MethodPost, Path: "/programs/{name}/matches", Summary: "Say that two names are one function, or not", Body: api.MatchIn{}, Answer: api.MatchesOut{}, Audit: "names matched by hand", Handle: viewing.MatchRoutes{Server: s}.SetMatch},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes", Summary: "Takes, searched and sorted", Answer: api.TakesOut{}, Handle: viewing.TakeRoutes{Server: s}.Takes, Query: []request.Param{
			request.Query("search", "string", "words that all occur in program, build, note, command or host", false),
			request.Query("program", "string", "exact name of a program", false),
			request.Query("workload", "integer", "only the takes of the workload of this number", false),
			request.Query("series", "string", "only the takes of this row", false),
			request.Query("sort", "string", "started, program, build, duration, cpu, samples or warnings", false),
			request.Query("descending", "boolean", "the largest first", false),
			request.Query("limit", "integer", "rows, 1000 at most", false),
			request.Query("offset", "integer", "rows to leave out first", false),
		}},
		{Needs: people.Work, Method: http.MethodPost, Path: "/takes", Load: request.Bulky, Summary: "Add a take; the body is the file", Octets: true, Answer: api.AddedOut{}, Status: http.StatusCreated, Audit: "take sent", Handle: viewing.TakeRoutes{Server: s}.AddTake,
			Query: []request.Param{request.Query("name", "string", "the file's name, for errors", false)}},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}", Load: request.Heavy, Summary: "A take without its samples", Answer: api.TakeDetail{}, Handle: viewing.TakeRoutes{Server: s}.Take},
		{Needs: people.Work, Method: http.MethodPatch, Path: "/takes/{key}", Summary: "Replace a take's note", Body: api.NoteIn{}, Answer: api.TakeOut{}, Audit: "take's note changed", Handle: viewing.TakeRoutes{Server: s}.SetNote},
		{Needs: people.Work, Method: http.MethodDelete, Path: "/takes/{key}", Summary: "Remove a take", Status: http.StatusNoContent, Audit: "take removed", Handle: viewing.TakeRoutes{Server: s}.RemoveTake},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/notes", Summary: "Notes on a take and on the functions of its program", Answer: api.RemarksOut{}, Handle: viewing.NoteRoutes{Server: s}.Notes},
		{Needs: people.Work, Method: http.MethodPost, Path: "/takes/{key}/notes", Summary: "Write a note on a take or a function", Body: api.RemarkIn{}, Answer: api.RemarkOut{}, Status: http.StatusCreated, Audit: "note written", Handle: viewing.NoteRoutes{Server: s}.AddNote},
		{Needs: people.Work, Method: http.MethodPatch, Path: "/notes/{id}", Summary: "Replace a note", Body: api.RemarkIn{}, Answer: api.RemarkOut{}, Audit: "note changed", Handle: viewing.NoteRoutes{Server: s}.ChangeNote},
		{Needs: people.Work, Method: http.MethodPut, Path: "/notes/{id}/settled", Summary: "Say that a note asks for nothing any more, or does again", Body: api.SettledIn{}, Answer: api.RemarkOut{}, Audit: "note settled or opened", Handle: viewing.NoteRoutes{Server: s}.SettleNote},
		{Needs: people.Work, Method: http.MethodDelete, Path: "/notes/{id}", Summary: "Remove a note", Status: http.StatusNoContent, Audit: "note removed", Handle: viewing.NoteRoutes{Server: s}.RemoveNote},
		{Needs: people.Look, Method: http.MethodGet, Path: "/programs/{name}/pins", Summary: "Functions that stand on top of a program's lists", Answer: api.PinsOut{}, Handle: viewing.NoteRoutes{Server: s}.Pins},
		{Needs: people.Work, Method: http.MethodPost, Path: "/programs/{name}/pins", Summary: "Pin a function, or let it go", Body: api.PinIn{}, Answer: api.PinsOut{}, Audit: "pins changed", Handle: viewing.NoteRoutes{Server: s}.SetPin},
		{Needs: people.Look, Method: http.MethodGet, Path: "/programs/{name}/sources", Summary: "Where a program's source is", Answer: api.SourceRules{}, Handle: viewing.SourceRoutes{Server: s}.SourceRules},
		{Needs: people.Work, Method: http.MethodPut, Path: "/programs/{name}/sources", Summary: "Replace the rules for where a program's source is", Body: api.SourceRulesIn{}, Most: 1 << 20, Answer: api.SourceRules{}, Audit: "rules for source changed", Handle: viewing.SourceRoutes{Server: s}.SetSourceRules},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/file", Load: request.Bulky, Summary: "The take's file", File: "application/octet-stream", Handle: viewing.TakeRoutes{Server: s}.File},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/hot", Load: request.Shared, Summary: "Hot functions and the reading", Answer: api.HotOut{}, Handle: s.Same(viewing.LensRoutes{Server: s}.Hot, nil), Query: with(
			request.Query("bare", "boolean", "functions by their number alone, which /functions explains", false),
		)},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/functions", Load: request.Shared, Summary: "All functions of a take by their number", Answer: api.FunctionsOut{}, Handle: s.Same(viewing.LensRoutes{Server: s}.Functions, nil), Query: shaping},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/flame", Load: request.Shared, Summary: "The flame graph, laid out", Answer: api.FlameOut{}, Handle: s.Same(viewing.LensRoutes{Server: s}.Flame, viewing.LensRoutes{Server: s}.PinsOf), Query: with(
			request.Query("root", "integer", "node to dive into", false),
			request.Query("order", "string", "of siblings: cost, name or first", false),
			request.Query("pixels", "integer", "width of the drawing; thinner frames go into bands", false),
		)},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/search", Load: request.Shared, Summary: "Find functions in the flame graph", Answer: api.SearchOut{}, Handle: s.Same(viewing.LensRoutes{Server: s}.Search, nil), Query: with(
			request.Query("text", "string", "part of a name", true),
			request.Query("root", "integer", "node to search below", false),
		)},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/function", Load: request.Heavy, Summary: "One function: cost, callers, callees, other builds", Answer: api.FunctionOut{}, Handle: viewing.LensRoutes{Server: s}.Function, Query: with(
			request.Query("name", "string", "its full name", true),
			request.Query("module", "string", "its library's name, if the name is not enough", false),
		)},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/builds", Load: request.Heavy, Summary: "One function in the newest take of each build, in a scope", Answer: api.BuildsOut{}, Handle: viewing.LensRoutes{Server: s}.Builds, Query: append(append([]request.Param{}, timeRange...), measuring,
			request.Query("name", "string", "its full name", true),
			request.Query("module", "string", "its library's name, if the name is not enough", false),
		)},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/threads", Load: request.Shared, Summary: "The cost by thread", Answer: api.ThreadsOut{}, Handle: s.Same(viewing.LensRoutes{Server: s}.Threads, nil), Query: with()},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/scope", Load: request.Shared, Summary: "A scope expression as it is understood, or what is wrong with it", Answer: api.ScopeOut{}, Handle: s.Same(viewing.LensRoutes{Server: s}.Scope, nil), Query: []request.Param{scoping}},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/kept", Load: request.Shared, Summary: "How much of a take a scope keeps", Answer: api.KeptOut{}, Handle: s.Same(viewing.LensRoutes{Server: s}.Kept, nil), Query: with()},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/complete", Load: request.Shared, Summary: "How a scope expression may go on", Answer: api.CompleteOut{}, Handle: s.Same(viewing.LensRoutes{Server: s}.Complete, nil), Query: []request.Param{
			request.Query("text", "string", "what stands there already", false),
			request.Query("at", "integer", "where, in characters from 0", false),
		}},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/events", Load: request.Shared, Summary: "Events that a take recorded one by one", Answer: api.EventsOut{}, Handle: s.Same(viewing.LensRoutes{Server: s}.Events, nil), Query: append([]request.Param{
			request.Query("kind", "string", "kind of event; absent: the first", false),
			request.Query("sort", "string", "amount, the largest first, or time; absent: amount", false),
			request.Query("column", "string", "a number of the rows that amounts are of; absent: the kind's own", false),
			request.Query("limit", "integer", "rows, 1000 at most", false),
			request.Query("bins", "integer", "bins of time in which rows are counted, 2000 at most", false),
		}, timeRange...)},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/lanes", Load: request.Shared, Summary: "A take over time: what each thread did when", Answer: api.LanesOut{}, Handle: s.Same(viewing.LensRoutes{Server: s}.Lanes, nil), Query: []request.Param{
			scoping,
			request.Query("begin", "integer", "where rows begin, in nanoseconds since the take began", false),
			request.Query("end", "integer", "where they end; absent: with the take", false),
			request.Query("parts", "integer", "equal parts of that time, of which each has two runs in a row at most; 4000 at most", false),
			request.Query("first", "integer", "the first lane of which a row is told", false),
			request.Query("count", "integer", "of how many, 200 at most", false),
			request.Query("bare", "boolean", "leave the lanes themselves out, and tell of rows alone", false),
			request.Query("open", "string", "the threads, by their IDs with commas, that are told with their sampled paths", false),
		}},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/lanes/at", Load: request.Shared, Summary: "What a thread did at one time, and who ended it", Answer: api.LaneAtOut{}, Handle: s.Same(viewing.LensRoutes{Server: s}.LaneAt, nil), Query: []request.Param{
			scoping,
			request.Query("thread", "integer", "the thread's ID", true),
			request.Query("at", "integer", "nanoseconds since the take began", true),
		}},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/lanes/path", Load: request.Shared, Summary: "What a thread's progress depended on, down the chain of those who ended its waits", Answer: api.LanePathOut{}, Handle: s.Same(viewing.LensRoutes{Server: s}.LanePath, nil), Query: []request.Param{
			scoping,
			request.Query("thread", "integer", "the thread's ID", true),
			request.Query("begin", "integer", "from when, in nanoseconds since the take began", false),
			request.Query("end", "integer", "until when; absent: to the end of the take", false),
		}},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/spans", Load: request.Shared, Summary: "How long each span took, by name", Answer: api.SpansOut{}, Handle: s.Same(viewing.SpanRoutes{LensRoutes: viewing.LensRoutes{Server: s}}.Spans, nil), Query: []request.Param{
			scoping,
			request.Query("name", "string", "of which name more is told; absent: the one that took longest together", false),
			request.Query("dots", "integer", "how many spans are told one by one, 20 000 at most", false),
			request.Query("bins", "integer", "how many pieces the time is cut into for the rate", false),
			request.Query("begin", "integer", "where that time begins, in nanoseconds since the take began", false),
			request.Query("end", "integer", "and where it ends", false),
		}},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/spans/contrast", Load: request.Heavy, Summary: "What the slowest spans of a name do that the others do not", Answer: api.SpanContrastOut{}, Handle: s.Same(viewing.SpanRoutes{LensRoutes: viewing.LensRoutes{Server: s}}.SpanContrast, nil), Query: []request.Param{
			scoping,
			request.Query("name", "string", "of which name", true),
			request.Query("permille", "integer", "how many in a thousand are the slow ones, 1 to 999; absent: 10", false),
			request.Query("longer", "integer", "instead: those that took as many nanoseconds or more", false),
		}},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/spans/blame", Load: request.Heavy, Summary: "What the slowest spans of a name were slow for", Answer: api.SpanBlameOut{}, Handle: s.Same(viewing.SpanRoutes{LensRoutes: viewing.LensRoutes{Server: s}}.SpanBlame, nil), Query: []request.Param{
			scoping,
			request.Query("name", "string", "of which name", true),
			request.Query("permille", "integer", "how many in a thousand, the slowest, 1 to 1000; absent: 10", false),
			request.Query("longer", "integer", "of these those that took as many nanoseconds or more", false),
			request.Query("shorter", "integer", "and less than these", false),
		}},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/paths", Load: request.Shared, Summary: "The steps that follow one of a path", Answer: api.PathsOut{}, Handle: s.Same(viewing.LensRoutes{Server: s}.Paths, nil), Query: with(
			request.Query("start", "string", "roots (the default) or leaves", false),
			request.Query("node", "integer", "from the roots: the step whose followers are asked for; 0 is the beginning", false),
			request.Query("path", "string", "from the leaves: the numbers of the functions up to there, with commas", false),
			request.Query("heaviest", "boolean", "tell the heaviest path, too", false),
		)},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/neighbours", Load: request.Shared, Summary: "Where a function's cost comes in and where it goes on", Answer: api.NeighboursOut{}, Handle: s.Same(viewing.LensRoutes{Server: s}.Neighbours, nil), Query: with(
			request.Query("name", "string", "its full name", true),
			request.Query("module", "string", "its library's name, if the name is not enough", false),
			request.Query("levels", "integer", "how far, 1 to 5", false),
			request.Query("most", "integer", "functions that stand alone on each level", false),
		)},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/lines", Load: request.Heavy, Summary: "A function's file, line by line", Answer: api.LinesOut{}, Handle: viewing.SourceRoutes{Server: s}.Lines, Query: with(
			request.Query("name", "string", "the function's full name", true),
			request.Query("module", "string", "its library's name, if the name is not enough", false),
		)},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/graph", Load: request.Shared, Summary: "The call graph without its thin parts", Answer: api.GraphOut{}, Handle: s.Same(viewing.LensRoutes{Server: s}.Graph, nil), Query: with(
			request.Query("most", "integer", "functions", false),
			request.Query("least_permille", "integer", "share of the total from which on functions and calls are told", false),
		)},
		{Needs: people.Look, Method: http.MethodGet, Path: "/takes/{key}/times", Load: request.Shared, Summary: "Samples over time", Answer: api.TimesOut{}, Handle: s.Same(viewing.LensRoutes{Server: s}.Times, nil), Query: []request.Param{
			request.Query("bins", "integer", "how many pieces the time is cut into", false),
			measuring,
		}},
		{Needs: people.Look, Method: http.MethodGet, Path: "/compare", Load: request.Heavy, Summary: "Two takes, or two groups of takes: what differs, how sure that is, and what explains it", Answer: api.CompareOut{}, Handle: comparing.CompareRoutes{Server: s}.Compare, Query: sides},
		{Needs: people.Look, Method: http.MethodGet, Path: "/compare/mirror", Load: request.Heavy, Summary: "The flame graphs of both sides, in one order and on one scale", Answer: api.MirrorOut{}, Handle: comparing.CompareRoutes{Server: s}.Mirror, Query: append(append([]request.Param{}, sides...),
			request.Query("pixels", "integer", "width of the drawing; thinner frames are left out", false),
		)},
		{Needs: people.Look, Method: http.MethodGet, Path: "/compare/lines", Load: request.Heavy, Summary: "The lines of a function's file on both sides", Answer: api.CompareLines{}, Handle: comparing.CompareRoutes{Server: s}.CompareLines, Query: append(append([]request.Param{}, sides...),
			request.Query("name", "string", "full name of the function, as either side has it", true),
		)},
		{Needs: people.Look, Method: http.MethodGet, Path: "/compare/report.html", Load: request.Heavy, Summary: "The comparison as one page that holds all it needs", File: "text/html", Handle: comparing.CompareRoutes{Server: s}.CompareReport(), Query: sides},
		{Needs: people.Look, Method: http.MethodGet, Path: "/compare/summary.md", Load: request.Heavy, Summary: "The comparison as a comment for a merge request", File: "text/markdown", Handle: comparing.CompareRoutes{Server: s}.CompareMarkdown(), Query: sides},
	}, viewing.TakeRoutes{Server: s}.Exports(with)...)
}
