//! The OpenAPI document, from which the console's types are made.

use actix_web::HttpResponse;
use utoipa::ToSchema;
use utoipa::openapi::path::{
    HttpMethod, OperationBuilder, ParameterBuilder, ParameterIn, PathItem,
};
use utoipa::openapi::request_body::RequestBodyBuilder;
use utoipa::openapi::{
    ArrayBuilder, ComponentsBuilder, ContentBuilder, InfoBuilder, OpenApi, OpenApiBuilder,
    PathsBuilder, Ref, RefOr, Required, ResponseBuilder, Schema,
};

/// One operation: method, path below `/api/v1`, what it does, body, answer.
type Row = (HttpMethod, &'static str, &'static str, &'static str, Option<&'static str>, Answer);

enum Answer {
    One(u16, &'static str),
    Many(&'static str),
    Nothing(u16),
    Raw(&'static str),
}

fn rows() -> Vec<Row> {
    use Answer::{Many, Nothing, One, Raw};
    use HttpMethod::{Delete, Get, Patch, Post, Put};
    vec![
        (
            Get,
            "/setup",
            "getSetup",
            "Whether the house still needs its first password",
            None,
            One(200, "Setup"),
        ),
        (
            Post,
            "/accounts",
            "addAccount",
            "Make an account",
            Some("NewAccount"),
            One(201, "Account"),
        ),
        (Get, "/session", "getSession", "Who is signed in", None, One(200, "Session")),
        (Post, "/session", "signIn", "Sign in", Some("Login"), One(201, "Session")),
        (Delete, "/session", "signOut", "Sign out", None, Nothing(204)),
        (Get, "/status", "getStatus", "How the house is", None, One(200, "Status")),
        (Get, "/house", "getHouse", "The house's settings", None, One(200, "House")),
        (
            Patch,
            "/house",
            "changeHouse",
            "Change the house's settings",
            Some("HouseChange"),
            One(200, "House"),
        ),
        (Post, "/house/announcement", "announce", "Announce the server now", None, Nothing(204)),
        (
            Post,
            "/house/renewal",
            "renewServer",
            "Appear as a new server: players forget what they keep of the old one",
            None,
            Nothing(204),
        ),
        (
            Get,
            "/config",
            "getConfig",
            "Configuration, with where each value came from",
            None,
            Many("ConfigValue"),
        ),
        (
            Get,
            "/console",
            "getConsoleAccess",
            "From where the console can be reached",
            None,
            One(200, "ConsoleAccess"),
        ),
        (
            Put,
            "/console",
            "setConsoleAccess",
            "Open the console to the house, or close it",
            Some("ConsoleAccess"),
            One(200, "ConsoleAccess"),
        ),
        (
            Post,
            "/console/code",
            "newCode",
            "A one-time code for making an account",
            None,
            One(200, "Code"),
        ),
        (Get, "/folders", "listFolders", "Published folders", None, Many("Folder")),
        (Post, "/folders", "addFolder", "Publish a folder", Some("NewFolder"), One(201, "Folder")),
        (Get, "/folders/{id}", "getFolder", "A folder", None, One(200, "Folder")),
        (Delete, "/folders/{id}", "removeFolder", "Stop publishing a folder", None, Nothing(204)),
        (
            Post,
            "/folders/{id}/rescan",
            "rescanFolder",
            "Scan a folder again, or a directory in it",
            Some("Rescan"),
            One(202, "Folder"),
        ),
        (Delete, "/folders/{id}/scan", "stopScan", "End a folder's scan", None, One(202, "Folder")),
        (
            Get,
            "/folders/{id}/left-out",
            "listLeftOut",
            "What the last scan left out",
            None,
            One(200, "LeftOutList"),
        ),
        (
            Get,
            "/folders/{id}/scans",
            "listScans",
            "What the last scans of a folder did",
            None,
            One(200, "ScanReports"),
        ),
        (
            Put,
            "/folders/{id}/excluded",
            "setExcluded",
            "Leave sub-folders out of a folder",
            Some("Excluded"),
            One(200, "Folder"),
        ),
        (
            Get,
            "/places",
            "listPlaces",
            "Directories on the host that could be published",
            None,
            One(200, "Places"),
        ),
        (
            Get,
            "/catalogue/{id}",
            "getObject",
            "An object of the catalogue",
            None,
            One(200, "CatalogueObject"),
        ),
        (
            Get,
            "/catalogue/{id}/children",
            "listChildren",
            "A page of a container",
            None,
            One(200, "CataloguePage"),
        ),
        (
            Get,
            "/catalogue/{id}/search",
            "search",
            "What is found below a container",
            None,
            One(200, "CataloguePage"),
        ),
        (
            Put,
            "/catalogue/{id}/position",
            "setPosition",
            "Note where the person stopped in an item",
            Some("Position"),
            Nothing(204),
        ),
        (
            Get,
            "/positions",
            "listPositions",
            "Items that the person began and did not finish",
            None,
            One(200, "Continued"),
        ),
        (
            Get,
            "/catalogue/{id}/art/{stamp}/{size}",
            "getArt",
            "A picture that shows an item",
            None,
            Raw("image/jpeg"),
        ),
        (
            Get,
            "/catalogue/{id}/captions/{number}",
            "getCaptions",
            "Subtitles beside an item, as WebVTT",
            None,
            Raw("text/vtt"),
        ),
        (
            Get,
            "/catalogue/{id}/file",
            "getFile",
            "An item's file",
            None,
            Raw("application/octet-stream"),
        ),
        (Get, "/devices", "listDevices", "Devices, those that wait first", None, Many("Device")),
        (Get, "/devices/{id}", "getDevice", "A device with its proof", None, One(200, "Device")),
        (Delete, "/devices/{id}", "forgetDevice", "Forget a device", None, Nothing(204)),
        (
            Put,
            "/devices/{id}/decision",
            "decide",
            "Decide on a device",
            Some("DecisionRequest"),
            One(200, "Device"),
        ),
        (
            Put,
            "/devices/{id}/name",
            "nameDevice",
            "Name a device",
            Some("DeviceName"),
            One(200, "Device"),
        ),
        (
            Put,
            "/devices/{id}/traits",
            "setDeviceTraits",
            "Say what is to be done differently for a device",
            Some("DeviceTraits"),
            One(200, "Device"),
        ),
        (
            Get,
            "/streams",
            "listStreams",
            "Streams that run, and the host beside them",
            None,
            One(200, "Streams"),
        ),
        (
            Delete,
            "/streams/{id}",
            "endStream",
            "End a stream; its file is kept from the device for a minute",
            None,
            Nothing(204),
        ),
        (
            Get,
            "/live",
            "live",
            "Server-sent events; each data is a LiveEvent",
            None,
            Raw("text/event-stream"),
        ),
    ]
}

fn reference(name: &str) -> RefOr<Schema> {
    RefOr::Ref(Ref::from_schema_name(name))
}

fn json(schema: RefOr<Schema>) -> utoipa::openapi::Content {
    ContentBuilder::new().schema(Some(schema)).build()
}

/// The document.
pub fn document() -> OpenApi {
    let mut components = ComponentsBuilder::new();
    let mut schemas = Vec::new();
    macro_rules! with {
        ($($kind:ident),*) => { $(
            schemas.push((mostra_api::$kind::name().into_owned(), <mostra_api::$kind as utoipa::PartialSchema>::schema()));
            mostra_api::$kind::schemas(&mut schemas);
        )* };
    }
    with!(
        Account,
        CatalogueObject,
        CataloguePage,
        Code,
        ConfigValue,
        ConsoleAccess,
        Continued,
        DecisionRequest,
        Device,
        DeviceName,
        DeviceTraits,
        Excluded,
        Folder,
        House,
        HouseChange,
        LeftOutList,
        LiveEvent,
        Login,
        NewAccount,
        NewFolder,
        Places,
        Position,
        Problem,
        Rescan,
        ScanReports,
        Session,
        Setup,
        Status,
        Stream,
        HostLoad,
        Streams
    );
    for (name, schema) in schemas {
        components = components.schema(name, schema);
    }
    let mut paths = PathsBuilder::new();
    for (method, path, id, summary, body, answer) in rows() {
        let mut operation = OperationBuilder::new().operation_id(Some(id)).summary(Some(summary));
        for name in ["id", "stamp", "size", "number"]
            .into_iter()
            .filter(|n| path.contains(&format!("{{{n}}}")))
        {
            operation = operation.parameter(parameter(name, ParameterIn::Path, Required::True));
        }
        let queries: &[&str] = match path {
            "/places" => &["path"],
            "/catalogue/{id}" => &["kinds", "folders"],
            "/catalogue/{id}/children" => &["start", "count", "sort", "kinds", "folders"],
            "/catalogue/{id}/search" => {
                &["q", "criteria", "start", "count", "sort", "kinds", "folders"]
            }
            _ => &[],
        };
        for name in queries {
            operation = operation.parameter(parameter(name, ParameterIn::Query, Required::False));
        }
        if let Some(body) = body {
            let body = RequestBodyBuilder::new()
                .content("application/json", json(reference(body)))
                .required(Some(Required::True));
            operation = operation.request_body(Some(body.build()));
        }
        let (status, response) = match answer {
            Answer::One(status, name) => {
                (status, ResponseBuilder::new().content("application/json", json(reference(name))))
            }
            Answer::Many(name) => {
                let list =
                    RefOr::T(Schema::Array(ArrayBuilder::new().items(reference(name)).build()));
                (200, ResponseBuilder::new().content("application/json", json(list)))
            }
            Answer::Nothing(status) => (status, ResponseBuilder::new()),
            Answer::Raw(kind) => {
                (200, ResponseBuilder::new().content(kind, ContentBuilder::new().build()))
            }
        };
        let problem = ResponseBuilder::new()
            .description("A problem document (RFC 9457)")
            .content("application/problem+json", json(reference("Problem")));
        operation = operation
            .response(status.to_string(), response.description(summary))
            .response("default", problem);
        paths = paths.path(format!("/api/v1{path}"), PathItem::new(method, operation.build()));
    }
    let info = InfoBuilder::new().title("Mostra").version(env!("CARGO_PKG_VERSION")).build();
    OpenApiBuilder::new()
        .info(info)
        .paths(paths.build())
        .components(Some(components.build()))
        .build()
}

fn parameter(
    name: &str,
    place: ParameterIn,
    required: Required,
) -> utoipa::openapi::path::Parameter {
    let text = utoipa::openapi::ObjectBuilder::new()
        .schema_type(utoipa::openapi::schema::SchemaType::AnyValue)
        .build();
    ParameterBuilder::new()
        .name(name)
        .parameter_in(place)
        .required(required)
        .schema(Some(RefOr::T(Schema::Object(text))))
        .build()
}

/// The document for whoever asks.
pub async fn serve() -> HttpResponse {
    HttpResponse::Ok().json(document())
}
