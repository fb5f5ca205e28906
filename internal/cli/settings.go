package cli

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/pflag"

	"metaplasis/internal/core/ladder"
	"metaplasis/internal/settings"
)

// settingFlags are the flags of settings, made from the tags of a Go type. The zero value is ready for register.
type settingFlags struct{ list []*settingFlag }

// settingFlag is the flag of one setting.
type settingFlag struct {
	of     reflect.StructField
	path   []string // the names of what it is in, and its own
	given  bool     // by its name, or the one that it had before
	value  any      // that was given, as it is sent
	normal string   // its default, as text
}

// register adds the flags of a structure to a command's.
func (f *settingFlags) register(to *pflag.FlagSet, of any) {
	f.walk(nil, reflect.ValueOf(of))
	for _, s := range f.list {
		for _, name := range []string{s.of.Tag.Get("flag"), s.of.Tag.Get("was")} {
			if name == "" {
				continue
			}
			flag := to.VarPF(s, name, "", s.of.Tag.Get("help"))
			if flag.Hidden = name != s.of.Tag.Get("flag"); s.of.Type.Kind() == reflect.Bool {
				flag.NoOptDefVal = "true"
			}
		}
	}
}

func (f *settingFlags) walk(in []string, v reflect.Value) {
	for i := range v.NumField() {
		field := v.Type().Field(i)
		name, _, _ := strings.Cut(field.Tag.Get("json"), ",")
		path := append(slices.Clone(in), name)
		switch {
		case field.Tag.Get("flag") != "":
			s := &settingFlag{of: field, path: path}
			switch now := v.Field(i).Interface().(type) {
			case []settings.Input:
				s.normal = inputsText(now)
			case []settings.Selection:
			default:
				s.normal = fmt.Sprint(now)
				if step := durationUnits[field.Tag.Get("unit")]; step > 0 {
					s.normal = duration(time.Duration(v.Field(i).Int()) * step)
				}
				if v.Field(i).IsZero() { // pflag shows no default then
					s.normal = fmt.Sprint(now)
				}
			}
			f.list = append(f.list, s)
		case field.Type.Kind() == reflect.Struct && field.Type != reflect.TypeFor[ladder.Ladder]():
			f.walk(path, v.Field(i))
		}
	}
}

// changed holds the settings that were given, in their groups.
func (f *settingFlags) changed() map[string]any {
	out := map[string]any{}
	for _, s := range f.list {
		if !s.given {
			continue
		}
		into := out
		for _, group := range s.path[:len(s.path)-1] {
			in, _ := into[group].(map[string]any)
			if in == nil {
				in = map[string]any{}
				into[group] = in
			}
			into = in
		}
		into[s.path[len(s.path)-1]] = s.value
	}
	return out
}

// applyTo puts what was given over a value of the type that the flags are of.
func (f *settingFlags) applyTo(to any) error {
	text, err := json.Marshal(f.changed())
	if err != nil {
		return err
	}
	return json.Unmarshal(text, to)
}

// settings holds what was given, and nothing else.
func (f *settingFlags) settings() (s settings.Settings, err error) {
	err = f.applyTo(&s)
	return s, err
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
	switch unit := s.of.Tag.Get("unit"); {
	case durationUnits[unit] > 0:
		return "duration"
	case unit == "MB":
		return "size"
	case unit != "":
		return "bitrate"
	}
	return "int"
}

// String implements pflag.Value.
func (s *settingFlag) String() string { return s.normal }

// Set implements pflag.Value.
func (s *settingFlag) Set(text string) (err error) {
	s.given = true
	switch reflect.Zero(s.of.Type).Interface().(type) {
	case []settings.Input:
		s.value = readInputs(text)
		return nil
	case []settings.Selection:
		s.value, err = readSelections(text)
		return err
	}
	switch s.of.Type.Kind() {
	case reflect.Bool:
		if s.value, err = strconv.ParseBool(text); err != nil {
			return fmt.Errorf("found %q, expected true or false", text)
		}
	case reflect.String:
		s.value = text
	default:
		if unit := s.of.Tag.Get("unit"); unit != "" {
			s.value, err = readUnit(text, unit)
			return err
		}
		if s.value, err = strconv.ParseInt(text, 10, 64); err != nil {
			return fmt.Errorf("found %q, expected a whole number", text)
		}
	}
	return nil
}

// readInputs reads inputs such as sender,file:standby.flv.
func readInputs(text string) (out []settings.Input) {
	for one := range strings.SplitSeq(text, ",") {
		out = append(out, settings.ParseInput(one))
	}
	return out
}

func inputsText(list []settings.Input) string {
	var out []string
	for _, in := range list {
		out = append(out, in.String())
	}
	return strings.Join(out, ",")
}

// soundSelection stands for the audio only in a selection.
const soundSelection = "sound"

// readSelections reads name=rung+rung,name=sound.
func readSelections(text string) ([]settings.Selection, error) {
	out := []settings.Selection{}
	if text == "" {
		return out, nil
	}
	for part := range strings.SplitSeq(text, ",") {
		name, rungs, ok := strings.Cut(part, "=")
		if !ok || name == "" || rungs == "" {
			return nil, fmt.Errorf("found selection %q, expected NAME=RUNG+RUNG or NAME=%s", part, soundSelection)
		}
		sel := settings.Selection{Name: strings.TrimSpace(name), SoundOnly: rungs == soundSelection}
		if !sel.SoundOnly {
			sel.Rungs = strings.Split(rungs, "+")
		}
		out = append(out, sel)
	}
	return out, nil
}
