//! ContentDirectory:1, what a server lists.

use super::{Definition, Variable, actions, evented, listed, var};

/// The service.
pub const DEFINITION: Definition = Definition {
    name: "urn:schemas-upnp-org:service:ContentDirectory",
    version: 1,
    id: "urn:upnp-org:serviceId:ContentDirectory",
    actions: ACTIONS,
    variables: VARIABLES,
};

actions! { DEFINITION;
    GetSearchCapabilities() -> (SearchCaps: "SearchCapabilities");
    GetSortCapabilities() -> (SortCaps: "SortCapabilities");
    GetSystemUpdateID() -> (Id: "SystemUpdateID");
    Browse(ObjectID: "A_ARG_TYPE_ObjectID", BrowseFlag: "A_ARG_TYPE_BrowseFlag", Filter: "A_ARG_TYPE_Filter", StartingIndex: "A_ARG_TYPE_Index", RequestedCount: "A_ARG_TYPE_Count", SortCriteria: "A_ARG_TYPE_SortCriteria") -> (Result: "A_ARG_TYPE_Result", NumberReturned: "A_ARG_TYPE_Count", TotalMatches: "A_ARG_TYPE_Count", UpdateID: "A_ARG_TYPE_UpdateID");
    Search(ContainerID: "A_ARG_TYPE_ObjectID", SearchCriteria: "A_ARG_TYPE_SearchCriteria", Filter: "A_ARG_TYPE_Filter", StartingIndex: "A_ARG_TYPE_Index", RequestedCount: "A_ARG_TYPE_Count", SortCriteria: "A_ARG_TYPE_SortCriteria") -> (Result: "A_ARG_TYPE_Result", NumberReturned: "A_ARG_TYPE_Count", TotalMatches: "A_ARG_TYPE_Count", UpdateID: "A_ARG_TYPE_UpdateID");
}

const VARIABLES: &[Variable] = &[
    evented("SystemUpdateID", "ui4"),
    evented("ContainerUpdateIDs", "string"),
    evented("TransferIDs", "string"),
    var("SearchCapabilities", "string"),
    var("SortCapabilities", "string"),
    var("A_ARG_TYPE_ObjectID", "string"),
    var("A_ARG_TYPE_Result", "string"),
    listed("A_ARG_TYPE_BrowseFlag", &["BrowseMetadata", "BrowseDirectChildren"]),
    var("A_ARG_TYPE_SearchCriteria", "string"),
    var("A_ARG_TYPE_Filter", "string"),
    var("A_ARG_TYPE_SortCriteria", "string"),
    var("A_ARG_TYPE_Index", "ui4"),
    var("A_ARG_TYPE_Count", "ui4"),
    var("A_ARG_TYPE_UpdateID", "ui4"),
];
