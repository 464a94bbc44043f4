//! The code with which the first account is made in a browser: whoever may read the service's own
//! directory has it, and nobody else on the host.

use std::io;
use std::path::Path;

use crate::random::random_word;

/// The file that holds it, below the data directory.
const FILE: &str = "first-account-code";

/// The code, made where there is none yet.
///
/// # Errors
/// When it cannot be read or kept.
pub fn first_code(data: &Path) -> io::Result<String> {
    use std::io::Write as _;
    use std::os::unix::fs::OpenOptionsExt as _;
    let path = data.join(FILE);
    match std::fs::read_to_string(&path) {
        Ok(code) if !code.trim().is_empty() => return Ok(code.trim().to_owned()),
        Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
        _ => {}
    }
    let code = random_word(12);
    let mut options = std::fs::OpenOptions::new();
    let mut file = options.write(true).create(true).truncate(true).mode(0o600).open(path)?;
    writeln!(file, "{code}")?;
    Ok(code)
}

/// Whether somebody has the code.
pub(super) fn fits(data: &Path, typed: &str) -> bool {
    let typed: String = typed.to_lowercase().chars().filter(|c| c.is_alphanumeric()).collect();
    let Ok(kept) = std::fs::read_to_string(data.join(FILE)) else { return false };
    let kept = kept.trim();
    // No early exit, so that the time taken says nothing about the code.
    let differing = kept.bytes().zip(typed.bytes()).fold(0, |all, (a, b)| all | (a ^ b));
    !kept.is_empty() && kept.len() == typed.len() && differing == 0
}

/// Forgets the code once there is an account.
pub(super) fn forget(data: &Path) {
    let _ = std::fs::remove_file(data.join(FILE));
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_code_stays_until_it_is_used_and_fits_as_people_type_it() {
        let data = tempfile::tempdir().unwrap();
        assert!(!fits(data.path(), ""), "there is none yet");
        let code = first_code(data.path()).unwrap();
        assert_eq!(first_code(data.path()).unwrap(), code);
        let (begin, end) = code.split_at(4);
        assert!(fits(data.path(), &format!("{}-{end} ", begin.to_uppercase())));
        for wrong in ["", &code[1..], &format!("{code}a")] {
            assert!(!fits(data.path(), wrong), "{wrong}");
        }
        forget(data.path());
        assert!(!fits(data.path(), &code));
    }
}
