package trouble

// A Cause names a diagnosis for programs; the set is closed and documented here.
type Cause string

const (
	NoMark             Cause = "no_mark"             // a camera cannot be nudged, or draws no label
	MarkStands         Cause = "mark_stands"         // a nudge or a label was not taken back
	OutOfScope         Cause = "out_of_scope"        // the address is outside the authorised ranges
	NameMoved          Cause = "name_moved"          // a target's name leads to other addresses than those that were taken for it
	CommandRefused     Cause = "command_refused"     // a device does not take what a command recipe sends
	CommandExcluded    Cause = "command_excluded"    // another setting stands that a command must not be on with
	CommandUnread      Cause = "command_unread"      // a device's page does not show what a command recipe reads there
	NotFromOutside     Cause = "not_from_outside"    // what should play a stream from outside reaches the inside as well
	TwoSenders         Cause = "two_senders"         // somebody else sends a transport stream to the same place
	MixedDatagrams     Cause = "mixed_datagrams"     // a transport stream comes within RTP and without in turn
	ManyPrograms       Cause = "many_programs"       // a transport stream carries several programs
	LateReferences     Cause = "late_references"     // its clock references stand too far apart
	NothingSent        Cause = "nothing_sent"        // no picture comes in the datagrams of a transport stream
	AddressConflict    Cause = "address_conflict"    // two devices claim one address
	AddressTaken       Cause = "address_taken"       // something answers at the new address
	AddressRefused     Cause = "address_not_kept"    // the device came back at its old address
	DeviceLost         Cause = "device_lost"         // the device did not come back
	RecorderShut       Cause = "recorder_shut"       // the recorder that it is reached through is not signed in to
	NoPath             Cause = "no_path"             // no likely path is there
	NoAnswer           Cause = "no_answer"           // nothing answers at the address
	PortClosed         Cause = "port_closed"         // the address answers, the port refuses
	StreamsOff         Cause = "streams_off"         // the stream service is switched off, by the device's own word
	WrongPort          Cause = "wrong_port"          // another of the device's ports was given
	Silent             Cause = "silent"              // the port takes the connection and says nothing
	NotRTSP            Cause = "not_rtsp"            // the port speaks something else, mostly HTTP
	NotHTTP            Cause = "not_http"            // the port was taken for the web port
	NotONVIF           Cause = "not_onvif"           // HTTP, but no device service
	Unbounded          Cause = "unbounded"           // an answer without end
	Broken             Cause = "broken_answer"       // an answer that cannot be read
	Dropped            Cause = "dropped"             // the device closed the connection
	FactoryFresh       Cause = "factory_fresh"       // the device has no account yet and lets anyone in
	NoSignIn           Cause = "no_sign_in"          // the device wants one and the keyring has none for it
	WrongSignIn        Cause = "wrong_sign_in"       // every sign-in that may be tried was refused
	StreamRefuses      Cause = "stream_refuses"      // the device service takes the sign-in, the stream does not
	HeldBack           Cause = "held_back"           // another wrong try could lock the device
	CertificateChanged Cause = "certificate_changed" // TLS with another certificate than before
	UnfitSignIn        Cause = "unfit_sign_in"       // a target cannot take the sign-in in the URL
	NotKept            Cause = "not_kept"            // a change was accepted and not made
	NotPicture         Cause = "not_picture"         // an HTTP answer that is no picture
	RedirectLost       Cause = "redirect_lost"       // a redirect that leads nowhere
	Locked             Cause = "locked"              // the device judges no sign-in for a while
	Readable           Cause = "readable_only"       // the sign-in would go out so that it can be read, and nobody agreed
	HandingUnagreed    Cause = "handing_unagreed"    // a secret would be handed to a target so that it can be read, and nobody agreed
	ReadableWaits      Cause = "readable_waits"      // somebody agreed, and nobody has begun the work
	SchemeWeaker       Cause = "scheme_weaker"       // a weaker scheme than the device has taken before
	Stranger           Cause = "not_known_again"     // it has moved, and nothing says yet that it is the same device
	Impostor           Cause = "impostor"            // another device says that it is this one
	TooSlow            Cause = "too_slow"            // it answers, and not in time
	OwnRequests        Cause = "own_requests"        // it sends requests of its own and answers none
	SchemeUnknown      Cause = "scheme_unknown"      // no sign-in scheme that can be answered
	LevelTooLow        Cause = "level_too_low"       // signed in, but not allowed
	PathUnknown        Cause = "path_unknown"        // 404
	SessionLimit       Cause = "session_limit"       // 453
	Busy               Cause = "busy"                // 503
	TransportRefused   Cause = "transport_refused"   // 461
	StreamStatus       Cause = "stream_status"       // any other status
	NoVideo            Cause = "no_video"            // a description without a video track
	BadDescription     Cause = "bad_description"     // an SDP that names no media
	NoPackets          Cause = "no_packets"          // PLAY accepted, nothing sent
	NoKeyframe         Cause = "no_keyframe"         // packets, but no whole key frame
	BadParameterSet    Cause = "bad_parameter_set"   // a picture size that cannot be
	NotDecodable       Cause = "not_decodable"       // the key frame decodes to nothing
	CodecNotMeasured   Cause = "codec_not_measured"  // a codec or a form of it of which no picture is proven
	NoProfiles         Cause = "no_profiles"         // the device names no media profile with a picture
	BadURL             Cause = "bad_url"             // a URL that cannot be read
	NotTuned           Cause = "not_tuned"           // its streams are not what they were set to
	WantsRestart       Cause = "wants_restart"       // it has taken settings and goes on as before
	IntakeUnmet        Cause = "intake_unmet"        // a target takes none of its streams
	TargetFull         Cause = "target_full"         // no free slot
	SlotBlocked        Cause = "slot_blocked"        // a slot is blocked by what could be given up
	SlotTaken          Cause = "slot_taken"          // another camera is in the slot
	SlotLocked         Cause = "slot_locked"         // a slot that may not be changed from here
	SlotGone           Cause = "slot_gone"           // the slot no longer holds the camera
	Misfit             Cause = "misfit"              // a target turns a camera down for one of its fields
	BridgeBroken       Cause = "bridge_broken"       // a bridge breaks the contract
	NotOnRecorder      Cause = "not_on_recorder"     // a target takes channels of a recorder, and the camera is on none
	WrongPicture       Cause = "wrong_picture"       // a slot shows another camera
	TargetWaiting      Cause = "target_not_showing"  // the target does not report the picture
	Unfit              Cause = "device_answer"       // a fault of the device's own
	UnreadableRecord   Cause = "unreadable_record"   // what was recorded of it cannot be read
	Stopped            Cause = "stopped"             // stopped by the person
	Unknown            Cause = "unknown"
)

// Findings of a stream that plays and still is not as it should be.
const (
	LongKeyInterval Cause = "long_key_interval" // key frames so far apart that whoever opens the stream waits
	OverBitrate     Cause = "over_bitrate"      // far more comes than the device claims
	PacketLoss      Cause = "packet_loss"
	WrongClock      Cause = "wrong_clock"    // the sender's wall clock
	WrongRTPClock   Cause = "wrong_rtp_time" // time stamps that do not run with time
	SizeChanges     Cause = "size_changes"   // while the stream plays
	OtherCodec      Cause = "other_codec"    // than the device claims
	SilentAudio     Cause = "silent_audio"
	BadAudioConfig  Cause = "bad_audio_config"
)

// Findings of streams that are sent to groups.
const (
	GroupClash      Cause = "group_clash"      // two devices are set to one group and port
	GroupShared     Cause = "group_shared"     // somebody else sends to the group
	GroupDouble     Cause = "group_double"     // one stream goes to two groups at once
	GroupOutside    Cause = "group_outside"    // a group that may be somebody else's
	GroupSilent     Cause = "group_silent"     // the device says that it sends, and nothing arrives
	GroupRTSPSilent Cause = "group_rtsp_quiet" // it accepts to send to a group when asked, and nothing arrives
)

// kept are the causes for which nothing was sent.
var kept = map[Cause]bool{OutOfScope: true, BadURL: true, Locked: true, SchemeUnknown: true, ReadableWaits: true, Readable: true,
	HandingUnagreed: true, SchemeWeaker: true, HeldBack: true, CertificateChanged: true}
