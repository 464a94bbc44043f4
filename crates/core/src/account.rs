//! Who is signed in at the console.

use mostra_protocol::Moment;

/// A session as recorded: never the token itself, only its hash.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Session {
    /// SHA-256 of the token.
    pub token_hash: [u8; 32],
    /// The account's name.
    pub account: String,
    /// When it began.
    pub began: Moment,
    /// When it ends.
    pub expires: Moment,
    /// Whether a program has it, and not a browser.
    pub program: bool,
}

/// Somebody whose session was checked. There is no other way to make one.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignedIn {
    account: String,
}

impl SignedIn {
    /// Checks a presented token's hash against a recorded session.
    pub fn check(session: &Session, presented: &[u8; 32], now: Moment) -> Option<SignedIn> {
        // No early exit, so that the time taken says nothing about the hash.
        let differing = session.token_hash.iter().zip(presented).fold(0, |d, (a, b)| d | (a ^ b));
        (differing == 0 && now < session.expires)
            .then(|| SignedIn { account: session.account.clone() })
    }

    /// Somebody on the host whom the kernel names, with the name of the system's user. It is none that
    /// an account can have.
    pub fn on_host(user: &str) -> SignedIn {
        SignedIn { account: format!("{user} on the host") }
    }

    /// The account's name.
    pub fn account(&self) -> &str {
        &self.account
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_right_token_in_time() {
        let session = Session {
            token_hash: [7; 32],
            account: "house".into(),
            began: Moment::EPOCH,
            expires: Moment::from_secs(10),
            program: false,
        };
        let at = Moment::from_secs;
        assert!(SignedIn::check(&session, &[7; 32], at(9)).is_some());
        assert!(SignedIn::check(&session, &[7; 32], at(10)).is_none());
        assert!(SignedIn::check(&session, &[8; 32], at(9)).is_none());
    }
}
