package cli

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strconv"
	"strings"

	"github.com/spf13/pflag"

	"metaplasis/internal/origin"
)

// settingFlags are the flags of a channel's settings, made from the tags of origin.Settings. The zero value is
// ready for register.
type settingFlags struct{ list []*settingFlag }

// settingFlag is the flag of one setting.
type settingFlag struct {
	of     reflect.StructField
	group  string // that the setting is in, "" for none
	value  any    // that was given, as it is sent
	normal string // what it is without, as text
}

// register adds the flags to a command's.
func (f *settingFlags) register(to *pflag.FlagSet) {
	f.walk("", reflect.ValueOf(origin.Settings{}.WithDefaults()))
	for _, s := range f.list {
		flag := to.VarPF(s, s.of.Tag.Get("flag"), "", s.of.Tag.Get("help"))
		if s.of.Type.Kind() == reflect.Bool {
			flag.NoOptDefVal = "true"
		}
	}
}

func (f *settingFlags) walk(group string, v reflect.Value) {
	for i := range v.NumField() {
		field := v.Type().Field(i)
		name, _, _ := strings.Cut(field.Tag.Get("json"), ",")
		switch {
		case field.Anonymous:
			f.walk(name, v.Field(i))
		case field.Tag.Get("flag") != "":
			s := &settingFlag{of: field, group: group}
			switch now := v.Field(i).Interface().(type) {
			case []origin.Input:
				s.normal = inputsText(now)
			case []origin.Selection:
			case string:
				s.normal = now
			default:
				s.normal = fmt.Sprint(now)
			}
			f.list = append(f.list, s)
		}
	}
}

// changed holds the settings that were given, in their groups.
func (f *settingFlags) changed(given *pflag.FlagSet) map[string]any {
	out := map[string]any{}
	for _, s := range f.list {
		if !given.Changed(s.of.Tag.Get("flag")) {
			continue
		}
		into := out
		if s.group != "" {
			into, _ = out[s.group].(map[string]any)
			if into == nil {
				into = map[string]any{}
				out[s.group] = into
			}
		}
		name, _, _ := strings.Cut(s.of.Tag.Get("json"), ",")
		into[name] = s.value
	}
	return out
}

// settings holds what was given, and nothing else.
func (f *settingFlags) settings(given *pflag.FlagSet) (s origin.Settings, err error) {
	text, err := json.Marshal(f.changed(given))
	if err != nil {
		return s, err
	}
	return s, json.Unmarshal(text, &s)
}

// Type implements pflag.Value.
func (s *settingFlag) Type() string {
	switch s.of.Type.Kind() {
	case reflect.Bool:
		return "bool"
	case reflect.String:
		return "string"
	case reflect.Slice:
		return "list"
	}
	return "int"
}

// String implements pflag.Value.
func (s *settingFlag) String() string { return s.normal }

// Set implements pflag.Value.
func (s *settingFlag) Set(text string) (err error) {
	switch reflect.Zero(s.of.Type).Interface().(type) {
	case []origin.Input:
		s.value = readInputs(text)
	case []origin.Selection:
		s.value, err = readSelections(text)
	case bool:
		if s.value, err = strconv.ParseBool(text); err != nil {
			return fmt.Errorf("found %q, expected true or false", text)
		}
	case string:
		s.value = text
	default:
		if s.value, err = strconv.ParseInt(text, 10, 64); err != nil {
			return fmt.Errorf("found %q, expected a whole number", text)
		}
	}
	return err
}

// readInputs reads inputs such as sender,file:standby.flv.
func readInputs(text string) (out []origin.Input) {
	for one := range strings.SplitSeq(text, ",") {
		kind, file, _ := strings.Cut(strings.TrimSpace(one), ":")
		out = append(out, origin.Input{Kind: kind, File: file})
	}
	return out
}

func inputsText(list []origin.Input) string {
	var out []string
	for _, in := range list {
		out = append(out, in.String())
	}
	return strings.Join(out, ",")
}

// soundSelection stands for the sound alone in a selection.
const soundSelection = "sound"

// readSelections reads name=rung+rung,name=sound.
func readSelections(text string) ([]origin.Selection, error) {
	out := []origin.Selection{}
	if text == "" {
		return out, nil
	}
	for part := range strings.SplitSeq(text, ",") {
		name, rungs, ok := strings.Cut(part, "=")
		if !ok || name == "" || rungs == "" {
			return nil, fmt.Errorf("found selection %q, expected NAME=RUNG+RUNG or NAME=%s", part, soundSelection)
		}
		sel := origin.Selection{Name: strings.TrimSpace(name), SoundOnly: rungs == soundSelection}
		if !sel.SoundOnly {
			sel.Rungs = strings.Split(rungs, "+")
		}
		out = append(out, sel)
	}
	return out, nil
}
