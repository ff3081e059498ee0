package bringup

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/decide/latch"
	"unlatch/core/ground/signin"
	"unlatch/core/ground/streamurl"
	"unlatch/core/ground/trouble"
	"unlatch/core/stream/media"
	"unlatch/core/stream/picturematch"
	"unlatch/core/wire/rtsp"
	"unlatch/core/wire/target"
	"unlatch/core/work/prove"
)

// slotPicture is the result of looking at the picture that a target shows in a slot.
type slotPicture struct {
	match     string
	diagnosis *diagnose.Diagnosis
	still     []byte
	sendsOn   []evidence.Given
	note      string // what a person should know besides
}

// A comparison compares what a target shows with what the camera shows.
type comparison struct{ *Work }

// compare looks at what a target shows for the camera: its picture, or what it sends on. If the target gives neither, nothing is
// compared.
func (w comparison) compare(ctx context.Context, s target.Session, p latch.Placement) (out slotPicture, err error) {
	since := time.Now()
	if p.Confirmed && !w.put[p.Target] { // nothing was changed there for it
		since = since.Add(-listFresh)
	}
	layout, err := placeStep(w).relook(ctx, p.Target, s, since)
	if err != nil {
		return out, err
	}
	for _, x := range layout.Slots {
		if x.Token != p.Token || x.Token == "" {
			continue
		}
		for _, g := range x.SendsOn {
			out.sendsOn = append(out.sendsOn, evidence.Given{Role: g.Role, URL: g.URL})
		}
	}
	if sender, ok := s.(target.Sender); ok {
		list, err := sender.SendsOn(ctx, target.Ref(p.Ref))
		if err != nil {
			w.log.Note("where it can be played from is not known: %v", err)
		}
		for _, g := range list {
			out.sendsOn = append(out.sendsOn, evidence.Given{Role: g.Role, URL: g.URL})
		}
	}
	if pic, ok := s.(target.Picturer); ok {
		out.still, err = pic.Picture(ctx, target.Ref(p.Ref))
		if errors.As(err, new(*target.UnableError)) {
			err = nil
		}
		if err != nil { // it has the picture, and cannot show it just now: its own word stands
			w.log.Note("its picture cannot be had: %v", err)
		}
	}
	if out.still == nil && len(out.sendsOn) > 0 {
		if out.still, out.note, err = w.play(ctx, p, out.sendsOn[0].URL, nil); err != nil {
			w.log.Note("what it sends on cannot be played: %v", err)
		}
	}
	return w.judge(ctx, s, p, out)
}

// judge compares the picture of out with the camera's own; where out has none yet, the newest that the target has recorded.
func (w comparison) judge(ctx context.Context, s target.Session, p latch.Placement, out slotPicture) (_ slotPicture, err error) {
	if replayer, ok := s.(target.Replayer); ok && out.still == nil {
		if out.still, out.note, err = w.replay(ctx, replayer, p); err != nil {
			w.log.Note("what it has recorded cannot be played: %v", err)
		}
	}
	if ctx.Err() != nil {
		return out, ctx.Err()
	}
	if out.still == nil {
		return out, nil
	}
	// What a target gives for a picture is decoded within bounds, and kept as what came out of that.
	out.still, err = media.Still(ctx, media.Keyframe{Decoder: "mjpeg", Data: out.still})
	if ctx.Err() != nil {
		return out, ctx.Err()
	}
	shown, ok := picturematch.OfStill(out.still)
	if err != nil || !ok {
		w.log.Note("its picture cannot be compared: %v", err)
		out.still, out.match = nil, string(picturematch.CannotTell)
		return out, nil
	}
	mine, err := w.Record.Still(ctx, w.d.ID)
	if err != nil {
		return out, &OwnError{err}
	}
	own, ok := picturematch.OfStill(mine)
	if !ok {
		return out, nil
	}
	verdict, score := picturematch.Compare(own, shown)
	if verdict != picturematch.Same {
		other, err := w.whoIs(ctx, p.Target, shown, score)
		if err != nil {
			return out, err
		}
		if verdict == picturematch.Other || other != "" { // what cannot be told from its own may be told by another's
			verdict = picturematch.Other
			out.diagnosis = wrongPicture(p, w.d.Title, other)
		}
	}
	out.match = string(verdict)
	return out, nil
}

// whoIs returns the name of the site's camera whose picture matches better than score, or "" if no camera's does. One that stands on the
// target too goes before others that look alike: pictures are mixed up there more often than they come from elsewhere.
func (w comparison) whoIs(ctx context.Context, on uuid.UUID, shown picturematch.Print, score float64) (name string, err error) {
	stills, err := w.Record.Alike(ctx, shown, on)
	if err != nil {
		return "", &OwnError{err}
	}
	least, there := score, false
	for id, still := range stills {
		other, ok := picturematch.OfStill(still)
		if id == w.d.ID || !ok {
			continue
		}
		v, s := picturematch.Compare(other, shown)
		if v != picturematch.Same || s <= least {
			continue
		}
		d, err := w.Record.Device(ctx, id)
		if err != nil {
			return "", &OwnError{err}
		}
		if also := d.Status.PlacementOn(on) != nil; also && !there || also == there && s > score {
			name, score, there = d.Title, s, also
		}
	}
	return name, nil
}

// wrongPicture words that a slot shows another camera than the one that was put there.
func wrongPicture(p latch.Placement, title, other string) *diagnose.Diagnosis {
	if other == "" {
		other = "another camera"
	}
	return &diagnose.Diagnosis{Cause: trouble.WrongPicture,
		Summary: fmt.Sprintf("%s of %s shows %s, and not %s.", diagnose.Capital(p.Slot), p.Name, other, title),
		Fix:     "Put it right: the slot is given this camera's streams again.",
		Seen:    "the picture that the target shows is not the camera's"}
}

// oldPicture is how much older than what was asked for a replayed picture may be: the key frame that it begins with comes before.
const oldPicture = 30 * time.Second

// replay plays the newest that a target has recorded and returns a picture of it. A recorder that plays something older than it was asked
// for shows what was there before: that picture says nothing, and note says so.
func (w comparison) replay(ctx context.Context, s target.Replayer, p latch.Placement) (still []byte, note string, err error) {
	from, err := s.Replay(ctx, target.Ref(p.Ref))
	if err != nil || from == nil {
		return nil, "", err
	}
	return w.play(ctx, p, from.URL, &rtsp.Replay{From: from.From})
}

// play plays what a target sends on, or has recorded, and returns a picture of it. The target's own sign-in is for the target's own host:
// where it names another one for its picture, none is sent there, and note says so.
func (w comparison) play(ctx context.Context, p latch.Placement, url string, replay *rtsp.Replay) (still []byte, note string, err error) {
	u, err := streamurl.Parse(url)
	if err != nil {
		return nil, "", err
	}
	t := w.targets[p.Target]
	req := prove.Request{URL: u, Measure: time.Second, Replay: replay}
	if replay != nil {
		req.Measure = 0 // what was recorded last may be from before a change: it goes on until newer pictures come
	}
	req.URL.SignIn = signin.SignIn{} // whatever the target has put into its URL is not sent either
	if own := t.facts(p.Name).Host; u.Host == own {
		req.SignIn, req.Leave = t.signIn, t.leave
	} else {
		note = fmt.Sprintf("It names %s as where its picture comes from, which is not its own address (%s): no sign-in was sent there.",
			u.HostPort(), own)
		w.log.Note("%s", note)
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	prover := prove.Prover{Dial: w.Guard, Still: media.Still}
	proof := prover.Prove(ctx, req)
	if !proof.OK {
		if proof.Diagnosis != nil {
			return nil, note, errors.New(proof.Diagnosis.Summary)
		}
		return nil, note, errors.New("it does not play")
	}
	if at := proof.Video.Recorded; replay != nil && at != nil && replay.From.Sub(*at) > oldPicture {
		return nil, fmt.Sprintf("It was asked for what it recorded at %s and played what it recorded at %s, so its picture says nothing.",
			replay.From.UTC().Format("15:04:05 UTC"), at.UTC().Format("15:04:05 UTC")), nil
	}
	return proof.Still, note, nil
}
