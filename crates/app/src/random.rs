//! Randomness for secrets and ids.

/// Random bytes from the system.
pub fn random_bytes<const N: usize>() -> [u8; N] {
    let mut bytes = [0; N];
    // Without randomness no secret is safe: stopping is the only honest answer.
    getrandom::fill(&mut bytes).unwrap_or_else(|e| panic!("the system gives no randomness: {e}"));
    bytes
}

/// A random UUID (version 4).
pub fn random_uuid() -> String {
    uuid::Builder::from_random_bytes(random_bytes()).into_uuid().to_string()
}

/// A random word of lower-case letters and digits, without those that look alike.
pub fn random_word(length: usize) -> String {
    const ALPHABET: &[u8; 32] = b"abcdefghjkmnpqrstuvwxyz023456789";
    random_bytes::<32>()
        .iter()
        .take(length)
        .map(|b| ALPHABET[usize::from(b & 31)] as char)
        .collect()
}
