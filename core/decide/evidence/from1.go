package evidence

import (
	"encoding/json"
	"fmt"
	"strings"
)

// In version 1 streams were known by their tier, and a placement had the words of the one kind of target that there was. Version 2 knows a
// stream by the device's token, with a role, and a placement by a reference that only its driver reads.

func locatedFrom1(raw json.RawMessage) (json.RawMessage, error) {
	return change(raw, func(body map[string]json.RawMessage) error { return streamsFrom1(body) })
}

func channelsFrom1(raw json.RawMessage) (json.RawMessage, error) {
	return change(raw, func(body map[string]json.RawMessage) error {
		return changeEach(body, "channels", func(channel map[string]json.RawMessage) error { return streamsFrom1(channel) })
	})
}

// streamsFrom1 names the token and the role of each stream of a body.
func streamsFrom1(body map[string]json.RawMessage) error {
	return changeEach(body, "streams", func(s map[string]json.RawMessage) error {
		s["role"], s["token"] = s["tier"], s["profile"]
		delete(s, "tier")
		delete(s, "profile")
		if token := string(s["token"]); token != "" && token != `""` {
			return nil
		}
		// A path that was found by trying had no profile: its path is its token.
		var url string
		if err := json.Unmarshal(s["url"], &url); err != nil {
			return err
		}
		_, rest, _ := strings.Cut(url, "://")
		if i := strings.IndexAny(rest, "/?"); i >= 0 {
			rest = rest[i:]
		}
		var err error
		s["token"], err = json.Marshal(rest)
		return err
	})
}

func placedFrom1(raw json.RawMessage) (json.RawMessage, error) {
	return change(raw, func(body map[string]json.RawMessage) error {
		var was struct{ Slot, Receiver, Job string }
		if err := json.Unmarshal(raw, &was); err != nil {
			return err
		}
		delete(body, "receiver")
		delete(body, "job")
		if was.Receiver == "" && was.Job == "" {
			return nil
		}
		ref, err := json.Marshal(map[string]string{"recording": was.Slot, "receiver": was.Receiver, "job": was.Job})
		if err != nil {
			return err
		}
		body["ref"], err = json.Marshal(string(ref))
		return err
	})
}

func confirmedFrom1(raw json.RawMessage) (json.RawMessage, error) {
	return change(raw, func(body map[string]json.RawMessage) error {
		var was struct{ State, Recording string }
		if err := json.Unmarshal(raw, &was); err != nil {
			return err
		}
		delete(body, "state")
		delete(body, "recording")
		says := was.State
		if was.Recording != "" {
			says = fmt.Sprintf("%s, recording %s", was.State, was.Recording)
		}
		var err error
		body["says"], err = json.Marshal(says)
		return err
	})
}

// change rewrites a body's members.
func change(raw json.RawMessage, f func(map[string]json.RawMessage) error) (json.RawMessage, error) {
	var body map[string]json.RawMessage
	if err := json.Unmarshal(raw, &body); err != nil {
		return nil, err
	}
	if err := f(body); err != nil {
		return nil, err
	}
	return json.Marshal(body)
}

// changeEach rewrites each object of a list that is a member of a body; one that is missing or null stays so.
func changeEach(body map[string]json.RawMessage, member string, f func(map[string]json.RawMessage) error) error {
	var list []json.RawMessage
	if raw, ok := body[member]; !ok || json.Unmarshal(raw, &list) != nil || list == nil {
		return nil
	}
	for i := range list {
		var err error
		if list[i], err = change(list[i], f); err != nil {
			return err
		}
	}
	var err error
	body[member], err = json.Marshal(list)
	return err
}
