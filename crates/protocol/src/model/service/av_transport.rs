//! AVTransport:1, how a renderer is told what to play.

use super::{Definition, Variable, actions, evented, listed, ranged, var};

/// The service.
pub const DEFINITION: Definition = Definition {
    name: "urn:schemas-upnp-org:service:AVTransport",
    version: 1,
    id: "urn:upnp-org:serviceId:AVTransport",
    actions: ACTIONS,
    variables: VARIABLES,
};

actions! { DEFINITION;
    SetAVTransportURI(InstanceID: "A_ARG_TYPE_InstanceID", CurrentURI: "AVTransportURI", CurrentURIMetaData: "AVTransportURIMetaData") -> ();
    SetNextAVTransportURI(InstanceID: "A_ARG_TYPE_InstanceID", NextURI: "NextAVTransportURI", NextURIMetaData: "NextAVTransportURIMetaData") -> ();
    GetMediaInfo(InstanceID: "A_ARG_TYPE_InstanceID") -> (NrTracks: "NumberOfTracks", MediaDuration: "CurrentMediaDuration", CurrentURI: "AVTransportURI", CurrentURIMetaData: "AVTransportURIMetaData", NextURI: "NextAVTransportURI", NextURIMetaData: "NextAVTransportURIMetaData", PlayMedium: "PlaybackStorageMedium", RecordMedium: "RecordStorageMedium", WriteStatus: "RecordMediumWriteStatus");
    GetTransportInfo(InstanceID: "A_ARG_TYPE_InstanceID") -> (CurrentTransportState: "TransportState", CurrentTransportStatus: "TransportStatus", CurrentSpeed: "TransportPlaySpeed");
    GetPositionInfo(InstanceID: "A_ARG_TYPE_InstanceID") -> (Track: "CurrentTrack", TrackDuration: "CurrentTrackDuration", TrackMetaData: "CurrentTrackMetaData", TrackURI: "CurrentTrackURI", RelTime: "RelativeTimePosition", AbsTime: "AbsoluteTimePosition", RelCount: "RelativeCounterPosition", AbsCount: "AbsoluteCounterPosition");
    GetDeviceCapabilities(InstanceID: "A_ARG_TYPE_InstanceID") -> (PlayMedia: "PossiblePlaybackStorageMedia", RecMedia: "PossibleRecordStorageMedia", RecQualityModes: "PossibleRecordQualityModes");
    GetTransportSettings(InstanceID: "A_ARG_TYPE_InstanceID") -> (PlayMode: "CurrentPlayMode", RecQualityMode: "CurrentRecordQualityMode");
    Stop(InstanceID: "A_ARG_TYPE_InstanceID") -> ();
    Play(InstanceID: "A_ARG_TYPE_InstanceID", Speed: "TransportPlaySpeed") -> ();
    Pause(InstanceID: "A_ARG_TYPE_InstanceID") -> ();
    Seek(InstanceID: "A_ARG_TYPE_InstanceID", Unit: "A_ARG_TYPE_SeekMode", Target: "A_ARG_TYPE_SeekTarget") -> ();
    Next(InstanceID: "A_ARG_TYPE_InstanceID") -> ();
    Previous(InstanceID: "A_ARG_TYPE_InstanceID") -> ();
    GetCurrentTransportActions(InstanceID: "A_ARG_TYPE_InstanceID") -> (Actions: "CurrentTransportActions");
}

const VARIABLES: &[Variable] = &[
    listed(
        "TransportState",
        &["STOPPED", "PLAYING", "TRANSITIONING", "PAUSED_PLAYBACK", "NO_MEDIA_PRESENT"],
    ),
    listed("TransportStatus", &["OK", "ERROR_OCCURRED"]),
    listed("TransportPlaySpeed", &["1"]),
    var("PlaybackStorageMedium", "string"),
    var("RecordStorageMedium", "string"),
    var("PossiblePlaybackStorageMedia", "string"),
    var("PossibleRecordStorageMedia", "string"),
    listed("CurrentPlayMode", &["NORMAL"]),
    var("RecordMediumWriteStatus", "string"),
    var("CurrentRecordQualityMode", "string"),
    var("PossibleRecordQualityModes", "string"),
    ranged("NumberOfTracks", "ui4", 0, 4_294_967_295),
    ranged("CurrentTrack", "ui4", 0, 4_294_967_295),
    var("CurrentTrackDuration", "string"),
    var("CurrentMediaDuration", "string"),
    var("CurrentTrackMetaData", "string"),
    var("CurrentTrackURI", "string"),
    var("AVTransportURI", "string"),
    var("AVTransportURIMetaData", "string"),
    var("NextAVTransportURI", "string"),
    var("NextAVTransportURIMetaData", "string"),
    var("RelativeTimePosition", "string"),
    var("AbsoluteTimePosition", "string"),
    var("RelativeCounterPosition", "i4"),
    var("AbsoluteCounterPosition", "i4"),
    var("CurrentTransportActions", "string"),
    evented("LastChange", "string"),
    listed("A_ARG_TYPE_SeekMode", &["TRACK_NR", "REL_TIME", "ABS_TIME"]),
    var("A_ARG_TYPE_SeekTarget", "string"),
    var("A_ARG_TYPE_InstanceID", "ui4"),
];
