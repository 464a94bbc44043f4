//! RenderingControl:1, how loud a renderer is.

use super::{Definition, Variable, actions, evented, listed, ranged, var};

/// The service.
pub const DEFINITION: Definition = Definition {
    name: "urn:schemas-upnp-org:service:RenderingControl",
    version: 1,
    id: "urn:upnp-org:serviceId:RenderingControl",
    actions: ACTIONS,
    variables: VARIABLES,
};

actions! { DEFINITION;
    ListPresets(InstanceID: "A_ARG_TYPE_InstanceID") -> (CurrentPresetNameList: "PresetNameList");
    SelectPreset(InstanceID: "A_ARG_TYPE_InstanceID", PresetName: "A_ARG_TYPE_PresetName") -> ();
    GetMute(InstanceID: "A_ARG_TYPE_InstanceID", Channel: "A_ARG_TYPE_Channel") -> (CurrentMute: "Mute");
    SetMute(InstanceID: "A_ARG_TYPE_InstanceID", Channel: "A_ARG_TYPE_Channel", DesiredMute: "Mute") -> ();
    GetVolume(InstanceID: "A_ARG_TYPE_InstanceID", Channel: "A_ARG_TYPE_Channel") -> (CurrentVolume: "Volume");
    SetVolume(InstanceID: "A_ARG_TYPE_InstanceID", Channel: "A_ARG_TYPE_Channel", DesiredVolume: "Volume") -> ();
}

const VARIABLES: &[Variable] = &[
    var("PresetNameList", "string"),
    evented("LastChange", "string"),
    var("Mute", "boolean"),
    ranged("Volume", "ui2", 0, 100),
    listed("A_ARG_TYPE_Channel", &["Master"]),
    var("A_ARG_TYPE_InstanceID", "ui4"),
    listed("A_ARG_TYPE_PresetName", &["FactoryDefaults"]),
];
