//! Whether a house that was switched off is really silent: it is asked from outside, as a player would.

use std::net::SocketAddrV4;
use std::time::Duration;

use mostra_net::{ServedInterface, search_is_answered};

use super::Network;
use crate::Topic;

/// How long a connection may take.
const CONNECT: Duration = Duration::from_millis(500);
/// What shows that the house is off.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct OffProof {
    /// When it was tried, in milliseconds since the epoch.
    pub at_ms: u64,
    /// How many times byebye was said.
    pub byebyes: u32,
    /// On how many interfaces the house was searched for.
    pub searched: u32,
    /// On how many of them something of it answered.
    pub answered: u32,
    /// At how many of its addresses its port still took a connection.
    pub reached: u32,
}

impl OffProof {
    /// Whether it is silent.
    pub fn is_silent(self) -> bool {
        self.byebyes > 0 && self.searched > 0 && self.answered == 0 && self.reached == 0
    }
}

impl Network {
    /// Tries, where the house was served until now, whether anything of it still answers.
    pub async fn prove_off(&self, served: Vec<ServedInterface>, port: u16) {
        let (udn, byebyes) = (self.udn(), self.byebyes_said());
        let tried = tokio::task::spawn_blocking(move || {
            let mut proof = OffProof { byebyes, ..OffProof::default() };
            for interface in &served {
                if let Ok(answered) = search_is_answered(interface.address, &udn) {
                    proof.searched += 1;
                    proof.answered += u32::from(answered);
                }
                let place = SocketAddrV4::new(interface.address, port).into();
                let reached = std::net::TcpStream::connect_timeout(&place, CONNECT).is_ok();
                proof.reached += u32::from(reached);
            }
            proof
        });
        let Ok(proof) = tried.await else { return };
        if self.off().is_none() {
            return;
        }
        let proof = OffProof { at_ms: crate::clock::ms(self.context.now()), ..proof };
        if !proof.is_silent() {
            tracing::warn!("the house is off and not silent: {proof:?}");
        }
        self.set_off_proof(Some(proof));
        self.context.changed(Topic::House);
    }
}
