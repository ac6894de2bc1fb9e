package cli

import (
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"cozyshelf/internal/backup"
	"cozyshelf/internal/control"
	"cozyshelf/internal/core/allowance"
	"cozyshelf/internal/core/blueprint"
	"cozyshelf/internal/core/capacity"
	"cozyshelf/internal/core/facts"
	"cozyshelf/internal/core/library"
	"cozyshelf/internal/core/line"
	"cozyshelf/internal/core/logline"
	"cozyshelf/internal/core/usage"
	"cozyshelf/internal/core/verdict"
	"cozyshelf/internal/ledger"
	"cozyshelf/internal/operate"
	"cozyshelf/internal/problem"
	"cozyshelf/internal/scan"
	"cozyshelf/internal/store"

	"github.com/google/jsonschema-go/jsonschema"
	"github.com/spf13/cobra"
)

// The documents of --json that are types of no other package. The keys of a time end in _at.
type (
	checkReport struct {
		Verdict verdict.Status `json:"verdict"`
		Lines   []verdict.Line `json:"lines"`
		Facts   facts.Facts    `json:"facts"`
	}

	deployReport struct {
		Engine     facts.Engine       `json:"engine"`
		Changes    []blueprint.Change `json:"changes"`
		Interrupts []usage.Play       `json:"interrupts"`
		CarriedOut bool               `json:"carried_out"`
		CutOff     int                `json:"cut_off,omitempty"` // the ledger's entry that this ends
	}

	turnReport struct {
		Household string `json:"household"`
		Running   bool   `json:"running"`
		Address   string `json:"address"`
		FullDisk  bool   `json:"full_disk"` // it runs, and remembers nothing new
	}

	retireReport struct {
		Household  string             `json:"household"`
		Changes    []blueprint.Change `json:"changes"`
		Interrupts []usage.Play       `json:"interrupts"`
	}

	// manifestReport is what an archive holds.
	manifestReport struct {
		Format        int           `json:"format"`
		MadeAt        time.Time     `json:"made_at"`
		Household     string        `json:"household"` // its id
		HouseholdName string        `json:"household_name"`
		Version       string        `json:"version"` // of the program that made it
		StoreFormat   int           `json:"store_format"`
		Files         []backup.File `json:"files"`
	}

	backupTaken struct {
		File      string         `json:"file"`
		Encrypted bool           `json:"encrypted"`
		Manifest  manifestReport `json:"manifest"`
	}

	backupSeen struct {
		File     string         `json:"file"`
		Manifest manifestReport `json:"manifest"`
		Store    store.Facts    `json:"store"`
	}

	backupRestored struct {
		backupSeen
		Running bool `json:"running"`
	}

	// householdWritten is what restore writes where there was no household file.
	householdWritten struct {
		HouseholdFile string `json:"household_file"`
		Written       bool   `json:"written"`
	}

	// householdChanged is a change to the household file, which the next deploy carries out.
	householdChanged struct {
		HouseholdFile string `json:"household_file"`
		What          string `json:"what"`
		Entry         int    `json:"entry"` // of the ledger; 0 where there is none yet
		ToDeploy      bool   `json:"to_deploy"`
	}

	memberAdded struct {
		Name       string         `json:"name"`
		Role       allowance.Role `json:"role"`
		Away       bool           `json:"away"`
		Passphrase string         `json:"passphrase,omitempty"` // where it was made
	}

	// invited is an invite with its links, which are told only when it is made.
	invited struct {
		control.Invite
		Links []string `json:"links,omitempty"`
	}

	// memberDevices is a member with the devices that are signed in.
	memberDevices struct {
		Member  string                 `json:"member"`
		Devices []control.MemberDevice `json:"devices"`
	}

	memberRemoved struct {
		Removed string `json:"removed"`
	}

	passwordChanged struct {
		Member     string `json:"member"`
		Passphrase string `json:"passphrase,omitempty"` // where it was made
	}

	// entryReport is an entry of the ledger.
	entryReport struct {
		ID       int          `json:"id"`
		BegunAt  time.Time    `json:"begun_at"`
		Who      string       `json:"who"`
		Command  string       `json:"command"`
		Action   string       `json:"action"`
		What     string       `json:"what"`
		Why      string       `json:"why"`
		Outcome  string       `json:"outcome"`
		Undo     *ledger.Undo `json:"undo,omitempty"`
		Undoes   int          `json:"undoes,omitempty"`
		UndoneBy int          `json:"undone_by,omitempty"`
		Steps    []stepReport `json:"steps,omitempty"` // with --steps: the single steps, in their order
	}

	// stepReport is one step of an entry.
	stepReport struct {
		ID      int       `json:"id"`
		BegunAt time.Time `json:"begun_at"`
		Action  string    `json:"action"`
		What    string    `json:"what"`
		Why     string    `json:"why"`
		Outcome string    `json:"outcome"`
	}

	ledgerVerified struct {
		Lines      int `json:"lines"`
		FirstWrong int `json:"first_wrong"` // 0 where each follows from the one before
	}

	// pathsUndone is the taking back of a change to files.
	pathsUndone struct {
		Entry   int `json:"entry"`
		Undoes  int `json:"undoes"`
		Done    int `json:"done"`
		Already int `json:"already"`
		Odd     int `json:"odd"` // left alone, because somebody changed them since
	}

	// thingUndone is the taking back of a change to an account, a group or a folder.
	thingUndone struct {
		Entry  int    `json:"entry"`
		Undoes int    `json:"undoes"`
		What   string `json:"what"`
	}

	// deploymentUndone is the taking back of a deployment.
	deploymentUndone struct {
		Undoes        int                `json:"undoes"`
		Changes       []blueprint.Change `json:"changes"`
		FormerVersion string             `json:"former_version"`
		HouseholdFile bool               `json:"household_file"` // the former one was put back, too
		Lost          *operate.Lost      `json:"lost,omitempty"`
	}

	topReport struct {
		SinceAt time.Time    `json:"since_at,omitzero"`
		Titles  []usage.Rank `json:"titles,omitzero"`
		Parts   []usage.Rank `json:"parts,omitzero"`
		Members []usage.Rank `json:"members,omitzero"`
		Devices []usage.Rank `json:"devices,omitzero"`

		Platforms []usage.Rank `json:"platforms,omitzero"`
		People    []usage.Rank `json:"people,omitzero"`
		Genres    []usage.Rank `json:"genres,omitzero"`
	}
)

func reportEntry(e ledger.Entry) entryReport {
	return entryReport{ID: e.ID, BegunAt: e.At, Who: e.Who, Command: e.Command, Action: e.Action, What: e.What,
		Why: e.Why, Outcome: e.Outcome, Undo: e.Undo, Undoes: e.Undoes, UndoneBy: e.UndoneBy}
}

// reportEntries gives the entries of the ledger, with their steps within them where those are wished.
func reportEntries(list []ledger.Entry, steps bool) []entryReport {
	out, at := []entryReport{}, map[int]int{}
	for _, e := range list {
		if e.Of == 0 {
			at[e.ID] = len(out)
			out = append(out, reportEntry(e))
		} else if i, ok := at[e.Of]; ok && steps {
			out[i].Steps = append(out[i].Steps, stepReport{ID: e.ID, BegunAt: e.At, Action: e.Action, What: e.What,
				Why: e.Why, Outcome: e.Outcome})
		}
	}
	return out
}

func reportManifest(m backup.Manifest) manifestReport {
	return manifestReport{Format: m.Format, MadeAt: m.Made, Household: m.ID, HouseholdName: m.Name, Version: m.Version,
		StoreFormat: m.StoreFormat, Files: m.Files}
}

// documents are the types of what the commands write with --json, by command. A command with
// several writes one of them; deploy and its kin write nothing where they do not come to an end.
func documents() map[string][]reflect.Type {
	is := func(list ...any) []reflect.Type {
		var out []reflect.Type
		for _, v := range list {
			out = append(out, reflect.TypeOf(v))
		}
		return out
	}
	deployed, turned, changed := is(deployReport{}), is(turnReport{}), is(householdChanged{})
	undone := is(pathsUndone{}, thingUndone{}, deploymentUndone{}, householdChanged{}, backupRestored{})
	return map[string][]reflect.Type{
		"access":          is(accessReport{}, []mended{}),
		"backup":          is(backupTaken{}, householdChanged{}),
		"backup verify":   is(backupSeen{}),
		"backup list":     is([]backup.Found{}),
		"capacity":        is(capacity.Measured{}),
		"check":           is(checkReport{}, facts.Facts{}),
		"deploy":          deployed,
		"intake clear":    is([]clearedJob{}),
		"intake copy":     is(brought{}),
		"intake fetch":    is([]brought{}),
		"intake list":     is([]waiting{}),
		"ledger":          is([]entryReport{}),
		"ledger verify":   is(ledgerVerified{}),
		"logs":            is(logline.Line{}),
		"member add":      is(memberAdded{}),
		"member devices":  is([]memberDevices{}),
		"member edit":     is(control.Member{}),
		"member show":     is(control.MemberShown{}),
		"member invite":   is(invited{}, []invited{}),
		"member list":     is([]control.Member{}),
		"member password": is(passwordChanged{}),
		"member remove":   is(memberRemoved{}),
		"usage report":    is(usage.Report{}),
		"usage forecast":  is(forecastReport{}),
		"key add":         is(control.KeyMade{}),
		"notice list":     is([]control.Receiver{}),
		"notice test":     is(noticeTest{}),
		"key list":        is([]control.Key{}),
		"key remove":      is(memberRemoved{}),
		"prepare add":     is([]control.Prepared{}),
		"prepare cancel":  is([]control.Prepared{}),
		"prepare list":    is([]control.Prepared{}),
		"restart":         turned,
		"remote proxy":    is(proxyRule{}),
		"remote status":   is(remoteReport{}),

		"remote close":       is(control.Outside{}),
		"remote name":        is(line.Report{}),
		"remote open":        is(control.Outside{}),
		"remote certificate": is(control.Certificate{}),
		"remote test":        is(outsideReport{}),
		"restore":            is(backupRestored{}, householdWritten{}),
		"retire":             is(retireReport{}),
		"rollback":           is(deploymentUndone{}),
		"shelf add":          changed,
		"shelf list":         is([]control.Shelf{}),
		"shelf match":        is(control.Matched{}),
		"shelf remove":       changed,
		"shelf scan":         is([]scan.Report{}),
		"shelf find":         is([]control.Hit{}),
		"shelf show":         is(control.ShelfFiles{}, control.Library{}, []library.Issue{}),
		"start":              turned,
		"status":             is(statusReport{}),
		"stop":               turned,
		"tidy":               is([]tidied{}),
		"undo":               undone,
		"upgrade":            deployed,
		"usage chart":        is(chartReport{}),
		"usage history":      is([]usage.Play{}),
		"usage lately":       is([]control.Title{}),
		"usage now":          is([]usage.Play{}),
		"usage stop":         is(control.Stopped{}),
		"usage top":          is(topReport{}),
		"usage verify":       is(control.Verified{}),
	}
}

// schemaOf gives the JSON Schema of what a command writes.
func schemaOf(command string, types []reflect.Type) (*jsonschema.Schema, error) {
	text := func() *jsonschema.Schema { return &jsonschema.Schema{Type: "string"} }
	own := map[reflect.Type]*jsonschema.Schema{
		reflect.TypeFor[time.Time]():       {Type: "string", Format: "date-time"},
		reflect.TypeFor[allowance.Spans](): text(),
		reflect.TypeFor[problem.Problem](): {Type: "object", Properties: map[string]*jsonschema.Schema{
			"problem": text(), "where": text(), "why": text(), "fix": text()},
			Required: []string{"problem", "where", "why", "fix"}},
		reflect.TypeFor[logline.Line](): {Type: "object", Properties: map[string]*jsonschema.Schema{
			"time": {Type: "string", Format: "date-time"}, "level": {Enum: []any{"DEBUG", "INFO", "WARN", "ERROR"}},
			"msg": text()}, Required: []string{"msg"},
			AdditionalProperties: &jsonschema.Schema{Types: []string{"string", "number", "boolean"}}},
	}
	var all []*jsonschema.Schema
	for _, t := range types {
		s, err := jsonschema.ForType(t, &jsonschema.ForOptions{TypeSchemas: own})
		if err != nil {
			return nil, err
		}
		all = append(all, s)
	}
	s := all[0]
	if len(all) > 1 {
		s = &jsonschema.Schema{AnyOf: all}
	}
	s.Schema = "https://json-schema.org/draft/2020-12/schema"
	s.Title = "cozyshelf " + command + " --json"
	return s, nil
}

func (a *app) schemaCommand() *cobra.Command {
	return &cobra.Command{
		Use: "schema [COMMAND]", Short: "The JSON Schema of what a command writes with --json",
		Long: `Writes the JSON Schema (draft 2020-12) of the document that a command writes with --json.
Without COMMAND it lists the commands that have one. Times end in _at and are written as
RFC 3339 says; sizes are in bytes, positions and lengths in seconds.`,
		Example: "  cozyshelf schema status\n  cozyshelf schema member list",
		ValidArgsFunction: func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
			var out []string
			before := strings.Join(append(args, ""), " ")
			for _, name := range slices.Sorted(maps.Keys(documents())) {
				if rest, ok := strings.CutPrefix(name, before); ok {
					out = append(out, strings.Fields(rest)[0])
				}
			}
			return slices.Compact(out), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(c *cobra.Command, args []string) error {
			all := documents()
			name := strings.Join(args, " ")
			if name == "" {
				for _, n := range slices.Sorted(maps.Keys(all)) {
					a.out.Printf("%s\n", n)
				}
				return nil
			}
			types, ok := all[name]
			if !ok {
				return &problem.Problem{What: "this command has no document", Where: name,
					Why: "no command of this name writes one with --json",
					Fix: "cozyshelf schema lists the commands that do", Exit: problem.ExitUsage}
			}
			s, err := schemaOf(name, types)
			if err != nil {
				return err
			}
			return a.document(s)
		},
	}
}
