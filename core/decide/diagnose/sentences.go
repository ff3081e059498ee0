package diagnose

import "unlatch/core/ground/trouble"

// A key names the sentences of a cause in one of its forms.
type key struct {
	cause trouble.Cause
	form  string
}

// sentences are what a person reads. Names in braces are filled in: {asking} is what was asked ("the device service"), {at} its
// host and port, {user} the user name in quotes, {error} the text of the error, and any other a fact of the trouble. A name
// with a capital letter begins a sentence.
type sentences struct{ summary, fix string }

// Fixes that several causes share.
const (
	lookAtPort   = "Check what is really listening on that port."
	addToKeyring = "Add the sign-in for this device to the keyring."
	streamPort   = "Use the stream port, usually 554. The device service names it."
	streamIsOn   = "Check on its own page that this stream is switched on; restart the device if it is."
	keepForMaker = "keep the exchange for the maker's support."
	lookBelow    = "Look at the exchange below; it is the target's own word."
)

// ofDevices are the sentences about devices, and about targets where ofTargets has none of its own.
var ofDevices = map[key]sentences{
	{trouble.Unknown, ""}: {"{Error}.", "Look at the exchange below; it holds every byte that was said."},
	{trouble.Stopped, ""}: {"Stopped before it was finished.", "Start it again when you want it to go on."},
	{trouble.OutOfScope, ""}: {"{addr} is outside this site's ranges ({ranges}), so Unlatch does not connect to it.",
		"Add its range to the site if it belongs there, or give the device an address inside the ranges."},
	{trouble.CommandRefused, ""}: {"The device answers {path} with {status}, and not as the command says that it would.",
		"Look at the exchange: the command may be for other firmware. Nothing is taken for done."},
	{trouble.CommandRefused, "value"}:   {"{Error}.", "Choose a value within its bounds."},
	{trouble.CommandRefused, "nothing"}: {"{Error}.", "Set it to what it should be instead."},
	{trouble.CommandRefused, "no page"}: {"{Error}.", "Sweep again to find the device's web port."},
	{trouble.CommandExcluded, ""}: {"“{other}” is {is} on the device, and both must not be on at the same time.",
		"Switch that off first, then send this again."},
	{trouble.CommandUnread, ""}: {"{what} does not stand on {path} of the device, where the command reads it.",
		"Look at the exchange: the command may be for other firmware. Nothing was sent that is not read back."},
	{trouble.CommandUnread, "no way back"}: {"{Error}.",
		"Nothing was sent. Add what it is set to now to the command's values, or set it by hand."},
	{trouble.NothingSent, ""}: {"Nothing arrives at {at}.",
		"Check that the encoder sends to this address and port, that the switches pass the group on to this machine, and the firewall here."},
	{trouble.NothingSent, "bare"}: {"RTP arrives at {at}, and no transport stream in it.",
		"Paste the rtsp:// URL of the camera that sends there: its description says what the packets hold."},
	{trouble.NothingSent, "scrambled"}: {"What arrives at {at} is scrambled: its pictures can be read by nobody without the key.",
		"Switch the scrambling off at the encoder."},
	{trouble.NothingSent, "no tables"}: {"Packets arrive at {at}, and no table that says what they hold.",
		"Have the encoder send its tables (PAT and PMT) several times a second."},
	{trouble.NothingSent, "no picture"}: {"A transport stream arrives at {at}, and no picture in it.",
		"Check that the encoder's picture is on, and which program it stands in."},
	{trouble.BadURL, ""}: {"{Error}.", "{Fix}."},

	// Sign-ins that were not sent or not judged.
	{trouble.Locked, ""}: {"The device is locked: it judges no sign-in at the moment, neither a wrong one nor the right one.",
		"Wait: Unlatch leaves it alone and tries again by itself. Find out who sends it wrong passwords, an old recorder perhaps."},
	{trouble.Locked, "no word"}: {"The device is locked: it judges no sign-in at the moment, neither a wrong one nor the right one.",
		"It does not say for how long; Unlatch leaves it alone for {minutes} minutes and tries again by itself. Restarting the device " +
			"often ends a lock."},
	{trouble.Locked, "waiting"}: {"The device is locked: it has said so. Nothing is sent to it until that ends.",
		"Wait: Unlatch tries again by itself."},
	{trouble.HeldBack, ""}: {"{wrong} sign-ins were refused or left unanswered. One more could lock the device.",
		"Wait: Unlatch goes on by itself with the rest of the keyring. A sign-in that is added for this device is tried first then."},
	{trouble.Unbounded, "challenge"}: {"The challenge (WWW-Authenticate) of {asking} is over {kilobytes} kB long, which no camera sends.",
		lookAtPort},
	{trouble.SchemeUnknown, ""}: {"The device refuses without offering a sign-in scheme that can be answered.",
		"Switch the device to digest sign-in on its own page."},
	{trouble.ReadableWaits, ""}: {"{Asking} takes a sign-in only as {scheme}, in which the password can be read. That goes out only in " +
		"work that a person begins, and this began by itself.", "Open its latches."},
	{trouble.Readable, "tls"}: {"{Asking} takes a sign-in only as {scheme}, over TLS: whoever holds the certificate at {channel} can " +
		"read the password, and nobody has said yet that it is the device's own. Nothing was sent.",
		"Compare the certificate with the one on the device's own page and take it; or agree to send the password to whoever answers " +
			"there; or switch the device to digest sign-in."},
	{trouble.Readable, ""}: {"{Asking} takes a sign-in only as {scheme}: whoever answers or listens on this network can read the password. " +
		"Nothing was sent.", "Agree to it for this device, its model or the site, if you trust this network; or switch the device to " +
		"digest sign-in on its own page."},
	{trouble.SchemeWeaker, ""}: {"{Asking} now wants the sign-in as {now}; it has always taken it as {before}. Nothing was sent: a stranger " +
		"in its place would ask like this.", "Find out who answers at this address. If the device was reset or its sign-in scheme was " +
		"changed, agree to the weaker one."},
	{trouble.CertificateChanged, ""}: {"{at} shows another certificate than before. No sign-in was sent to it.",
		"If the device was reset, replaced or given a new certificate, take the new one. If nobody did that, find out who answers at " +
			"this address."},

	// Sign-ins that are missing or refused.
	{trouble.NoSignIn, ""}:         {"{Asking} wants a sign-in and the keyring has none to try.", addToKeyring},
	{trouble.NoSignIn, "stream"}:   {"The stream wants a sign-in ({offered}) and there is none to try.", addToKeyring},
	{trouble.NoSignIn, "web"}:      {"{Asking} wants a sign-in and there is none to try.", "Add the sign-in for it to the keyring."},
	{trouble.NoSignIn, "bridge"}:   {"{Asking} wants a sign-in and it has been given none.", "Choose its sign-in on the target's page."},
	{trouble.NoSignIn, "recorder"}: {"{Error}.", "Open the recorder's own latches first: select it in the line-up."},
	{trouble.WrongSignIn, ""}: {"{Asking} refuses the sign-in of {user}.",
		"Add the sign-in that is right for this device to the keyring. A " +
			"separate ONVIF user list on the device is a common reason."},
	{trouble.WrongSignIn, "stream"}: {"The device refuses the sign-in of {user} for its streams ({scheme}).",
		"Check the password. Many devices keep a user list of their own for streams: the user may be missing there."},
	{trouble.WrongSignIn, "web"}: {"{Asking} refuses the sign-in of {user} ({scheme}).",
		"The device keeps users of their own for its web side: add the right sign-in to the keyring, for web pages only."},
	{trouble.WrongSignIn, "bridge"}: {"{Asking} refuses the sign-in of {user} ({scheme}).",
		"Choose another sign-in on the target's page. It is not tried again by itself."},
	{trouble.WrongSignIn, "broker"}: {"{Asking}: {error}.",
		"Choose another sign-in on the target's page. It is not tried again by itself."},
	{trouble.WrongSignIn, "before"}: {"{Error}.", "Choose another sign-in on the target's page, or try this one again there."},
	{trouble.WrongSignIn, "stream key"}: {"{Error}.",
		"Copy the stream key anew from the platform's page, and put it into the target's sign-in."},
	{trouble.LevelTooLow, ""}: {"{Asking} knows this user and does not allow what was asked: {reason}.",
		"Give the user a higher level (Operator or Administrator) or use another sign-in."},
	{trouble.LevelTooLow, "stream"}: {"The device knows this user and does not allow it to see the stream. {Error}.",
		"Give the user the right to live pictures on the device's own page, or use another sign-in."},
	{trouble.LevelTooLow, "web"}: {"{Asking} is not for this user: {error}.",
		"Give the user a higher level on the device's own page, or use another sign-in."},
	{trouble.UnfitSignIn, ""}:        {unfitSignIn + "the password is longer than many targets take.", makeStreamUser},
	{trouble.UnfitSignIn, "encoded"}: {unfitSignIn + encodedSignIn, makeStreamUser},

	// Reaching.
	{trouble.PortClosed, ""}: {"{host} is there, but port {port} is closed.",
		"The service is switched off or on another port. Switch it on at " +
			"the device's own page, or sweep again to find its port."},
	{trouble.NoAnswer, ""}: {"Nothing answers at {at}.", "Check power and cable; the address may have changed: sweep again."},
	{trouble.NoAnswer, "no route"}: {"There is no way from this machine to {host}.",
		"Check the cable, and that this machine has an address in that subnet."},
	{trouble.Dropped, ""}: {"{at} closed the connection in the middle.",
		"Try again; if it stays, the device may be overloaded or locked: wait a few minutes."},
	{trouble.TooSlow, ""}: {"{at} answers, but too slowly: {bytes} bytes in {after} and no end.",
		"The device may be overloaded, or the way to it bad: close other viewers, restart it, and try again."},
	{trouble.Silent, ""}: {"{at} takes the connection and says nothing.", "Restart the device, or check the port."},
	{trouble.Silent, "stream"}: {"{at} takes the connection and says nothing.", "The service behind the port hangs, or it is not RTSP. " +
		"Restart the device, or read its stream port from the device service."},
	{trouble.Silent, "hub"}: {"{Error}.", "Start the hub, or look at what its topics begin with."},
	{trouble.NotHTTP, ""}: {"{at} does not speak HTTP: this is not the web port.",
		"Use the web port, usually 80 or 8080. The stream port does not take this."},
	{trouble.NotRTSP, ""}:          {"{at} speaks {spoken}, not RTSP: this is a web port.", streamPort},
	{trouble.NotRTSP, "no tunnel"}: {"{at} is a web port: {error}.", streamPort},
	{trouble.NotONVIF, ""}: {"{at} answers, but not as a device service: {problem}.",
		"Switch ONVIF on in the device's network settings, or check the port."},
	{trouble.Unbounded, ""}:       {"{Asking} at {at} sends an answer that no honest device sends ({what}).", lookAtPort},
	{trouble.Unbounded, "stream"}: {"{at} sends an answer without end ({what} over {limit}), which no camera does.", lookAtPort},
	{trouble.Broken, ""}: {"What {at} answers cannot be read as RTSP.",
		"Check the port; if it is right, the firmware may be broken: " + keepForMaker},
	{trouble.Broken, "other answers"}: {"{at} answers, but not what was asked: the sequence numbers (CSeq) of its answers are others.",
		"Check the port; if it is right, the firmware is broken: " + keepForMaker},
	{trouble.Broken, "ended"}: {"{at} ends the stream by itself.",
		"Ask again; if it ends each time, the device allows few viewers, or a program on it has stopped. Restarting it helps as a rule."},
	{trouble.Broken, "packets"}: {"{at} sends packets ({packets} of them) in place of an answer.",
		"Check the port; if it is right, restart the device, and " + keepForMaker},
	{trouble.OwnRequests, ""}: {"{at} sends requests of its own ({requests} of them) and answers none.",
		"It may expect a server at this end. Check that the port is its stream port."},
	{trouble.RedirectLost, ""}: {"{Asking} redirects and leads nowhere: {to}.",
		"Read the right address on the device's own page; it may want HTTPS."},
	{trouble.RedirectLost, "out of TLS"}: {"{Error}.",
		"Take the plain URL by hand if you trust this network, or find out who sends the redirect."},

	// Addresses.
	{trouble.AddressTaken, ""}: {"{addr} is taken: something answers there on port {port}. Nothing was sent.",
		"Sweep again to see what it is, and plan another address."},
	{trouble.AddressTaken, "by another"}: {"Another device answers at {addr}, and this one was not heard since.",
		"Two devices may have the address now. Unplug one, sweep again, and give one another address."},
	{trouble.AddressRefused, ""}: {"The device accepted {new} and came back at {old}.",
		"Restart it by hand and sweep again; some devices lock their address on their own page."},
	{trouble.DeviceLost, ""}: {"The device was sent to a new address and did not come back within {wait}.",
		"Check mask and gateway, wait for a slow restart, then sweep again: it is known by its identity wherever it answers."},

	// Streams and pictures.
	{trouble.PathUnknown, "stream"}: {"The device does not know this path. {Error}.",
		"Ask the device itself for its stream URLs; look at upper and lower case and at the channel number."},
	{trouble.PathUnknown, "web"}: {"{Asking} is not there: {error}.",
		"The device may not serve it, or it is switched off on its own page."},
	{trouble.Busy, "stream"}: {"The device cannot serve this stream at the moment. {Error}.",
		"It may serve all the viewers it can, or its encoder has stopped: close other viewers, restart the device, try again."},
	{trouble.SessionLimit, "stream"}: {"The device serves all the viewers it can. {Error}.",
		"Close other viewers of this camera (recorders, players, wall panels) or raise its session limit, then try again."},
	{trouble.TransportRefused, "stream"}: {"The device does not send this stream over TCP. {Error}.",
		"Switch on RTP over RTSP (TCP) on the device's own page."},
	{trouble.StreamStatus, "stream"}: {"The device turns the stream down. {Error}.",
		"Look at the exchange below; restart the device if its answer makes no sense."},
	{trouble.BadDescription, ""}: {"{Error}.", "Check the path: some devices answer any path with an empty description."},
	{trouble.BadParameterSet, ""}: {"{Error}.",
		"Set the resolution again on the device, or restart it; no player can decode this."},
	{trouble.NotPicture, ""}: {"{Error}.", "Check the path: this may be a web page."},
	{trouble.NoVideo, ""}: {"The stream has no video track.",
		"This may be an audio or metadata stream: check the path or the profile."},
	{trouble.NoPackets, ""}:       {"The device accepted PLAY and then sent no packets of the picture.", streamIsOn},
	{trouble.NoPackets, "at all"}: {"The device accepted PLAY and then sent no packets.", streamIsOn},
	{trouble.NoKeyframe, ""}: {"Packets come, but no whole key frame. {detail}",
		"Shorten the key-frame interval on the device (one to two seconds is usual), or look for packet loss on the way."},
	{trouble.NotDecodable, ""}: {"A key frame came and does not decode to a picture.",
		"A maker's own compression or encryption may be on: " +
			"switch it off on the device, and set a plain codec (H.264, H.265, MJPEG or MPEG-4)."},
	{trouble.CodecNotMeasured, ""}: {"The stream plays as {detail}, of which no picture can be proven.",
		"Set the stream to H.264 on the device, which every target takes; H.265, MJPEG and MPEG-4 are proven too."},
	{trouble.NoProfiles, ""}: {"The device names no media profile with a picture.", "Restore its media profiles on its own page."},

	// Changes to a device.
	{trouble.NotKept, ""}: {"{Error}.", "Change it on the device's own page; a lock there or old firmware may be in the way."},
	{trouble.Unfit, ""}: {"{Asking} turns the request down: {reason}.",
		"Look at the exchange below; a restart or new firmware may mend it."},
	{trouble.NoMark, ""}: {"{Error}.",
		"Use the other way of telling it apart (nudge or label), or hold a hand before the lens and look at its picture."},
	{trouble.NoMark, "nudge"}: {"{Error}.", "Have it draw a label instead."},
	{trouble.MarkStands, ""}: {"{Error}.",
		"Put it back once more; if that does not help either, do it on the camera's own page."},
}

const (
	unfitSignIn   = "{Asking} turns the stream URL down. Most likely reason: "
	encodedSignIn = "the user name or password holds characters that have to be percent-encoded in a URL, which some targets cannot read."

	makeStreamUser = "Make a stream user on the camera: its password is short enough for every target and made of letters, digits and dashes."
)
