package erlang

import (
	"testing"

	"entelon/core/profile"
)

func TestNames(t *testing.T) {
	for name, want := range map[string]struct {
		function, module string
		kind             profile.ModuleKind
		begins           bool
	}{
		"$slur:route/2":                                {"slur:route/2", "slur", profile.KindOwn, false},
		"$lists:map/2":                                 {"lists:map/2", "lists", profile.KindRuntime, false},
		"$erl_eval:expr/6":                             {"erl_eval:expr/6", "erl_eval", profile.KindRuntime, false},
		"$gen_server:loop/7":                           {"gen_server:loop/7", "gen_server", profile.KindRuntime, false},
		"$general:rule/1":                              {"general:rule/1", "general", profile.KindOwn, false},
		"$global::call_light_bif_shared":               {"global::call_light_bif_shared", "[erlang]", profile.KindRuntime, false},
		"$erts_beamasm:normal_exit/0-CodeInfoPrologue": {"erts_beamasm:normal_exit/0", "erts_beamasm", profile.KindRuntime, true},
	} {
		function, module, ok := Function(name)
		if !ok || function != want.function || module != want.module || (Runtime{}).KindOf(name) != want.kind || Begins(name) != want.begins {
			t.Errorf("%s is %s of %s, %v, %v", name, function, module, (Runtime{}).KindOf(name), Begins(name))
		}
	}
	if _, _, ok := Function("LoadIC:staff"); ok {
		t.Error("another runtime's name is taken for one of Erlang's")
	}
	if name, _ := (Runtime{}).Script([]string{"+S", "2", "-noshell", "-pa", "/srv/shop", "-s", "engraved", "main"}); name != "engraved" {
		t.Errorf("it runs %q", name)
	}
}
