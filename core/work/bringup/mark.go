package bringup

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"unlatch/core/decide/diagnose"
	"unlatch/core/decide/evidence"
	"unlatch/core/ground/wiretext"
	"unlatch/core/stream/camera"
	"unlatch/core/stream/tuning"
	"unlatch/core/wire/onvif"
)

// LabelFor is how long a label stands in the picture.
const LabelFor = 20 * time.Second

// mostLabel is how many characters a label has at most: many cameras draw no more.
const mostLabel = 40

// nudgeFor is how long a nudged camera looks aside; nudgeBy how far, in parts of half its range.
const (
	nudgeFor = 2 * time.Second
	nudgeBy  = 0.06
)

// backWithin is how near to where it looked before a camera must come, backTime how long it may take.
const (
	backWithin = 0.01
	backTime   = 15 * time.Second
)

// putBackTime is for putting back what was before, once the work itself was stopped.
const putBackTime = 30 * time.Second

// Mark has a camera show which one it is, and puts back what was before: that is recorded before anything is sent, and a work that is
// killed in between puts it back when it is begun again. One that is stopped puts it back at once and counts as done: begun again it
// would be made once more. putBack does that alone, where a mark still stands.
func (w *Work) Mark(ctx context.Context, how evidence.Mark, text string, putBack bool) error {
	if err := w.Read(ctx); err != nil {
		return err
	}
	body := evidence.Marked{How: how}
	if how == evidence.Label {
		body.Text = cmp.Or(wiretext.Line(text, mostLabel), ">>> "+w.d.Addr+" <<<")
	}
	stands := w.d.Status.Marked
	if stands != nil {
		body = *stands
	}
	if stands == nil && putBack && w.d.Status.PutBack.Mark {
		if mine, err := w.mine(ctx, evidence.KindMarked, ""); mine || err != nil {
			return err // it was put back before the work was killed
		}
	}
	if stands == nil && putBack {
		return w.Report.Problem(ctx, w.d.Title+": nothing stands on this camera that could be put back.")
	}
	c, in, err := w.signedClient(ctx)
	if stopped := ctx.Err(); stopped != nil {
		return stopped // before anything was sent: what stands still stands
	}
	switch {
	case err != nil:
	case len(w.d.Status.Streams) == 0:
		err = &diagnose.NoMarkError{Why: "no stream of the camera is known yet"}
	case stands != nil: // of a work that was killed: its moment has passed
		err = markChange{w}.unmark(ctx, c, body)
	default:
		err = markChange{w}.mark(ctx, c, &body)
	}
	body.Pending, body.Diagnosis = false, nil
	own := ctx.Err()
	if own != nil && !body.Sent() {
		return own
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), putBackTime)
	defer cancel()
	if own != nil && errors.Is(err, own) {
		err = nil // it was stopped, and put back all the same
	}
	if body.Diagnosis, err = Explain(ctx, err, w.facts(w.d.Status.Device.XAddr, "the camera", in.User)); err != nil {
		return err
	}
	// What still stands is told of as pending, with why: it can be put back later.
	body.Pending = body.Diagnosis != nil && body.Sent()
	if err := w.Keep(ctx, Finding{Body: body}); err != nil {
		return err
	}
	if body.Diagnosis != nil {
		return w.Report.Problem(ctx, fmt.Sprintf("%s: %s %s", w.d.Title, body.Diagnosis.Summary, body.Diagnosis.Fix))
	}
	return nil
}

// A markChange has a camera show which one it is, and takes that back.
type markChange struct{ *Work }

// mark makes the mark, waits, and puts back what was before.
func (w markChange) mark(ctx context.Context, c *client, body *evidence.Marked) error {
	lasts, err := LabelFor, error(nil)
	switch body.How {
	case evidence.Nudge:
		lasts = nudgeFor
		err = w.nudge(ctx, c, body)
	case evidence.Label:
		err = w.label(ctx, c, body)
	default:
		return fmt.Errorf("there is no mark %q", body.How)
	}
	if err == nil {
		err = w.Clock.Sleep(ctx, lasts)
	} else if !body.Sent() {
		return err // nothing was sent
	}
	return cmp.Or(w.unmark(ctx, c, *body), err)
}

// intendMark records what was before.
func (w markChange) intendMark(ctx context.Context, body evidence.Marked) error {
	body.Pending = true
	return w.keep(ctx, Finding{Body: body})
}

func (w markChange) nudge(ctx context.Context, c *client, body *evidence.Marked) error {
	w.Report.Doing(w.d.Title + ": nudging it")
	profile := w.d.Status.Streams[0].Token
	p, err := c.PTZ(ctx, profile)
	switch {
	case err != nil:
		return err
	case p.At == nil:
		return &diagnose.NoMarkError{Why: "the camera never says where it looks, so that it could not be brought back for certain"}
	case !p.Absolute:
		return &diagnose.NoMarkError{Why: "the camera cannot be sent to a position, so that it could not be brought back for certain"}
	case p.Moving:
		return &diagnose.NoMarkError{Why: "the camera is moving: somebody steers it, or it is on a tour"}
	}
	before := *p.At
	body.Profile = profile
	pending := *body
	pending.At = &before
	if err := w.intendMark(ctx, pending); err != nil {
		return err
	}
	body.At = &before
	aside := before
	if aside.Pan += nudgeBy; aside.Pan > 1 {
		aside.Pan = before.Pan - nudgeBy
	}
	return c.MoveTo(ctx, profile, aside)
}

func (w markChange) label(ctx context.Context, c *client, body *evidence.Marked) error {
	w.Report.Doing(w.d.Title + ": drawing a label")
	encoders, err := c.Encoders(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(encoders, func(e onvif.EncoderOf) bool { return e.Profile == w.d.Status.Streams[0].Token })
	if i < 0 || encoders[i].Source == "" {
		return &diagnose.NoMarkError{Why: "the camera names no source to draw on"}
	}
	source := encoders[i].Source
	has, err := c.Overlays(ctx, source)
	if fault := new(onvif.Fault); errors.As(err, &fault) && fault.HasCode("ActionNotSupported") {
		return &diagnose.NoMarkError{Why: "the camera draws no text into its picture"}
	}
	if err != nil {
		return err
	}
	plain := slices.IndexFunc(has.Has, func(t tuning.Text) bool { return t.Kind == "Plain" })
	full := len(has.Has) >= has.Most
	if full && plain < 0 || !full && len(has.Kinds) > 0 && !slices.Contains(has.Kinds, "Plain") {
		return &diagnose.NoMarkError{Why: "the camera draws no text of somebody's own"}
	}
	pending := *body
	pending.Source, pending.Texts = source, has.Has
	if err := w.intendMark(ctx, pending); err != nil {
		return err
	}
	body.Source, body.Texts = source, has.Has
	if full { // the text that it draws already says it meanwhile
		t := has.Has[plain]
		t.Plain = body.Text
		return c.SetOverlay(ctx, source, t)
	}
	t := tuning.Text{Kind: "Plain", Plain: body.Text, At: freeCorner(has)}
	if has.Sizes.Max > 0 {
		t.Size = int(has.Sizes.Max)
	}
	_, err = c.CreateOverlay(ctx, source, t)
	return err
}

// freeCorner returns a place of the picture where nothing is drawn yet, of those that the camera offers.
func freeCorner(o tuning.Overlays) string {
	for _, at := range o.Corners {
		if !slices.ContainsFunc(o.Has, func(t tuning.Text) bool { return t.At == at }) {
			return at
		}
	}
	return "upper left"
}

// unmark puts back what was before, and reads it back, also when the work itself was stopped. It does nothing where it is so already.
func (w markChange) unmark(ctx context.Context, c *client, body evidence.Marked) (err error) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), putBackTime)
	defer cancel()
	switch {
	case body.At != nil:
		err = w.lookBack(ctx, c, body)
	case body.Source != "":
		err = w.drawAsBefore(ctx, c, body)
	}
	if err != nil && ctx.Err() != nil { // told apart from the end of the work's own time, after which it was put back
		return &diagnose.StandsError{What: fmt.Sprintf("it was not put back within %.0f s", putBackTime.Seconds())}
	}
	return err
}

func (w markChange) lookBack(ctx context.Context, c *client, body evidence.Marked) error {
	near := func(p camera.Position) bool {
		return math.Abs(p.Pan-body.At.Pan) < backWithin && math.Abs(p.Tilt-body.At.Tilt) < backWithin &&
			math.Abs(p.Zoom-body.At.Zoom) < backWithin
	}
	at, moving, err := c.Looks(ctx, body.Profile)
	if err == nil && at != nil && near(*at) && !moving {
		return nil
	}
	w.Report.Doing(w.d.Title + ": moving it back")
	if err := c.MoveTo(ctx, body.Profile, *body.At); err != nil {
		return err
	}
	for waited := time.Duration(0); waited < backTime; waited += 500 * time.Millisecond {
		at, moving, err := c.Looks(ctx, body.Profile)
		if err != nil {
			return err
		}
		if at != nil && near(*at) && !moving {
			return nil
		}
		if err := w.Clock.Sleep(ctx, 500*time.Millisecond); err != nil {
			return err
		}
	}
	return &diagnose.StandsError{What: fmt.Sprintf("it does not look where it did before the nudge (pan %.2f, tilt %.2f, zoom %.2f)",
		body.At.Pan, body.At.Tilt, body.At.Zoom)}
}

func (w markChange) drawAsBefore(ctx context.Context, c *client, body evidence.Marked) error {
	w.Report.Doing(w.d.Title + ": taking the label away")
	left := func() (has []tuning.Text, wrong bool, err error) {
		o, err := c.Overlays(ctx, body.Source)
		for _, t := range o.Has {
			wrong = wrong || t.Plain == body.Text && !slices.ContainsFunc(body.Texts, func(b tuning.Text) bool { return b.Plain == body.Text })
		}
		return o.Has, wrong, err
	}
	has, wrong, err := left()
	if err != nil || !wrong {
		return err
	}
	for _, t := range has {
		if t.Plain != body.Text {
			continue
		}
		if i := slices.IndexFunc(body.Texts, func(b tuning.Text) bool { return b.Token == t.Token }); i >= 0 {
			err = c.SetOverlay(ctx, body.Source, body.Texts[i])
		} else {
			err = c.DeleteOverlay(ctx, t.Token)
		}
		if err != nil {
			return &diagnose.StandsError{What: fmt.Sprintf("the label %q cannot be taken out of its picture (%s)", body.Text, err)}
		}
	}
	if _, wrong, err = left(); err == nil && wrong {
		return &diagnose.StandsError{What: fmt.Sprintf("it says that the label %q is gone, and still draws it", body.Text)}
	}
	return err
}
