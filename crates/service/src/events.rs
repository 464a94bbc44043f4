//! Delivering events to subscribers.

use std::net::SocketAddrV4;
use std::sync::Arc;
use std::time::Duration;

use mostra_protocol::gena::{Delivery, Outcome, write_properties};

use crate::house::House;

/// Delivers events as they become due, each subscriber on its own (GENA-14).
pub async fn run(house: Arc<House>) {
    let client = reqwest::Client::builder()
        .redirect(reqwest::redirect::Policy::none())
        .connect_timeout(Duration::from_secs(3))
        .timeout(Duration::from_secs(10))
        .pool_max_idle_per_host(0)
        // Old players look for names in capitals (SOAP-19).
        .http1_title_case_headers()
        .no_proxy()
        .build();
    let client = match client {
        Ok(client) => client,
        Err(error) => {
            tracing::error!("events cannot be sent: {error}");
            return;
        }
    };
    loop {
        let due = house.publisher().next_deadline().map(|at| house.clock.instant(at));
        let wait = async {
            match due {
                Some(at) => tokio::time::sleep_until(at).await,
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            () = wait => {}
            () = house.events_due.notified() => {}
            () = house.stopping() => return,
        }
        loop {
            let Some(delivery) = house.publisher().poll_output(house.clock.now()) else { break };
            let (house, client) = (house.clone(), client.clone());
            tokio::spawn(async move {
                let outcome = deliver(&client, &delivery).await;
                tracing::debug!(sid = delivery.sid, seq = delivery.seq, "event: {outcome:?}");
                house.publisher().delivered(&delivery.sid, outcome);
                house.events_due.notify_one();
            });
        }
    }
}

/// Tries the callbacks in order until one accepts (GENA-7).
async fn deliver(client: &reqwest::Client, delivery: &Delivery) -> Outcome {
    let body = write_properties(&delivery.variables);
    for (address, path) in &delivery.callbacks {
        match attempt(client, *address, path, delivery, body.clone()).await {
            Ok(412) => return Outcome::Gone,
            Ok(status) if (200..300).contains(&status) => return Outcome::Done,
            Ok(_) | Err(_) => {}
        }
    }
    Outcome::Failed
}

async fn attempt(
    client: &reqwest::Client,
    address: SocketAddrV4,
    path: &str,
    delivery: &Delivery,
    body: String,
) -> Result<u16, reqwest::Error> {
    // NOTIFY is a valid token, so this cannot fail; GET would be refused by the subscriber.
    let method = reqwest::Method::from_bytes(b"NOTIFY").unwrap_or(reqwest::Method::GET);
    let answer = client
        .request(method, format!("http://{address}{path}"))
        .header("Content-Type", "text/xml; charset=\"utf-8\"")
        .header("NT", "upnp:event")
        .header("NTS", "upnp:propchange")
        .header("SID", &delivery.sid)
        .header("SEQ", delivery.seq.to_string())
        .body(body)
        .send()
        .await?;
    Ok(answer.status().as_u16())
}
