package diagnose

import "unlatch/core/ground/trouble"

// Sentences that several answers of a bridge share.
const (
	turnsDown = "{Asking} turns it down: {error}."
	sentNo    = "{Asking} was sent nothing: {error}."

	whoAnswers = "Find out who answers at this address. If the target was replaced or set up anew, agree for the one that is there now."
)

// ofTargets are the sentences about targets. Those about reaching one name it and where it answers: a camera's name or port has
// no place in them.
var ofTargets = map[key]sentences{
	{trouble.OutOfScope, ""}: {"{addr} is neither in this site's ranges ({ranges}) nor the stated address of a target.",
		"Correct the target's address."},
	{trouble.NameMoved, ""}: {"{name} leads to {now} now. {Asking} was reached at {was}, where nothing answers any more. " +
		"Nothing was sent to the new address.", "If the target has moved, look at where its name leads on the target's page, and take that."},
	{trouble.TooSlow, ""}: {"{Asking} ({at}) answers so slowly that nothing can be done with it: {bytes} bytes in {after}.",
		"The target may be overloaded, or the way to it bad. Other targets are not held up by it."},
	{trouble.Silent, ""}: {"{Asking} ({at}) takes the connection and says nothing.",
		"Restart what answers there, or correct its port."},
	{trouble.PortClosed, ""}: {"{Asking} ({at}): the machine is there, and nothing listens on that port.",
		"Start what shall answer there, or correct the target's port."},
	{trouble.NoAnswer, ""}: {"{Asking} ({at}) does not answer.", "Check that it is switched on, and its address."},
	{trouble.NoAnswer, "no route"}: {"There is no way from this machine to {Asking} ({at}).",
		"Check the cable, and that this machine has an address in that subnet."},
	{trouble.NotHTTP, ""}: {"{Asking} ({at}) does not speak HTTP there.", "Correct the target's port."},
	{trouble.Dropped, ""}: {"{Asking} ({at}) closed the connection in the middle.", "Look at it again in a moment."},

	// Why nothing was sent.
	{trouble.HeldBack, ""}: {"{Asking} has refused {wrong} sign-ins, or left them unanswered. One more could lock it.",
		"Put the right sign-in in place first, and wait."},
	{trouble.Locked, "waiting"}: {"{Asking} is locked: it has said so. Nothing is sent to it until that ends.",
		"Put the right sign-in in place first, and wait."},
	{trouble.SchemeWeaker, ""}: {"{Asking} now wants its sign-in as {now}; it has always taken it as {before}. Nothing was sent: a stranger " +
		"in its place would ask like this.", "Find out who answers there. If the target was set up anew, agree for it on the target's page."},
	{trouble.CertificateChanged, ""}: {"{Asking} shows another certificate than before. Nothing was sent to it.",
		"If the target was replaced or given a new certificate, take it on the target's page. If nobody did that, find out who answers " +
			"there."},
	{trouble.HandingUnagreed, ""}: {sentNo, "Agree to it for this target, if you trust who answers there and the way to it; or reach it " +
		"over TLS and take its certificate. A user made for streams alone gives less away."},
	{trouble.HandingUnagreed, "changed"}: {sentNo, whoAnswers},
	{trouble.Readable, "target"}: {sentNo, "Agree to it on the target's page, if you trust who answers there and the way to it; or reach " +
		"it over TLS and take its certificate."},
	{trouble.Readable, "mqtt"}: {sentNo, "MQTT has no sign-in that cannot be read on the way. If the broker listens with TLS too, change " +
		"the target's address to mqtts:// and take its certificate; else agree to it on the target's page, if you trust this network."},
	{trouble.Readable, "changed"}:     {sentNo, whoAnswers},
	{trouble.ReadableWaits, "target"}: {sentNo, "Place it again by hand."},

	// What a target answers.
	{trouble.TargetFull, ""}: {"All {slots} slots of {asking} are taken.",
		"Take a camera off a slot that is no longer needed, or choose another target."},
	{trouble.TargetFull, "blocked"}: {"{Asking} has no free slot; {blocked} of its {slots} are blocked: {why}.",
		"Free a blocked slot in the Patch view, then place the camera again."},
	{trouble.TargetFull, "templates"}: {"{Error}.",
		"Delete a template that no channel uses on the target itself; cameras whose URLs have one shape share one."},
	{trouble.TargetFull, "bridge"}: {turnsDown, lookBelow},
	{trouble.SlotBlocked, ""}:      {"{Error}.", "Free it in the Patch view first, or choose another slot."},
	{trouble.SlotLocked, ""}:       {"{Error}.", "It can be changed only where it was made. Choose another slot."},
	{trouble.SlotLocked, "bridge"}: {turnsDown, lookBelow},
	{trouble.SlotTaken, ""}:        {"{Error}.", "Choose another slot, or replace that camera on purpose."},
	{trouble.SlotTaken, "bridge"}:  {turnsDown, lookBelow},
	{trouble.SlotGone, ""}: {"{Error}.",
		"Somebody has changed the target since. Place the camera again: it takes the slot that it has, or a free one."},
	{trouble.SlotGone, "bridge"}: {turnsDown, lookBelow},
	{trouble.Misfit, "bridge"}:   {turnsDown, "Change that on the camera or in its plan, then place it again."},
	{trouble.Busy, "bridge"}:     {turnsDown, "Wait a moment and place it again."},
	{trouble.Unfit, "bridge"}:    {turnsDown, lookBelow},
	{trouble.Unfit, "ability"}:   {"{Error}.", "Do it on the target itself."},
	{trouble.BridgeBroken, ""}:   {"{Error}.", "Test it with: unlatch bridge check URL. Whoever wrote the bridge has to mend it."},
	{trouble.NotOnRecorder, ""}:  {"{Error}.", "Put the camera onto a recorder that sends its channels on, then onto this target."},
}
