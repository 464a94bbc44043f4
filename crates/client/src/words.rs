//! explain, and device directions.

use mostra_api::{DeviceDirections, Explanation};

use crate::connection::{Connection, Failure};
use crate::output::{Output, table};

pub(crate) async fn explain(
    connection: &Connection,
    output: &Output,
    term: Option<&str>,
) -> Result<(), Failure> {
    let Some(term) = term else {
        let terms: Vec<Explanation> = connection.get("/glossary").await?;
        return output.print(&terms, |terms| {
            let rows = terms.iter().map(|term| vec![term.term.clone(), term.means.clone()]);
            table(&["term", "what it means"], rows)
        });
    };
    // As a part of a path it may have blanks.
    let path = format!("/glossary/{}", term.replace(' ', "%20"));
    let term: Explanation = connection.get(&path).await?;
    output.print(&term, |term| term.means.clone())
}

pub(crate) async fn directions(
    connection: &Connection,
    output: &Output,
    kind: Option<&str>,
) -> Result<(), Failure> {
    let mut all: Vec<DeviceDirections> = connection.get("/directions").await?;
    if let Some(kind) = kind {
        all.retain(|directions| directions.device_kind == kind);
    }
    if all.is_empty() {
        return Err(Failure::new(
            format!("{:?} is no kind of device", kind.unwrap_or_default()),
            "See all: mostra device directions",
        ));
    }
    output.print(&all, |all| {
        let one = |directions: &DeviceDirections| {
            format!(
                "{}\n  network media     {}\n  hardware address  {}\n  search again      {}",
                directions.device_kind.replace('-', " "),
                directions.media,
                directions.hardware,
                directions.again
            )
        };
        all.iter().map(one).collect::<Vec<_>>().join("\n")
    })
}
