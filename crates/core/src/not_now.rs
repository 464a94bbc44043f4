//! Why the records cannot be written now, and what a person can do about it.

/// Why PostgreSQL takes nothing now, though it may later.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum NotNow {
    /// It does not answer.
    NoAnswer,
    /// It is starting or shutting down.
    NotReady,
    /// It does not let this service in.
    NotLetIn,
    /// Its disk is full.
    DiskFull,
    /// It only reads: an administrator has it so, or it is the copy of another.
    ReadOnly,
    /// It has as many connections as it takes.
    TooManyConnections,
    /// It has no memory left.
    OutOfMemory,
    /// Others changed the same at the same time, or it took too long.
    Conflict,
    /// Its system fails it: a disk that does not read or write.
    SystemFault,
}

impl NotNow {
    /// By a code of SQLSTATE; `None` for what is refused for itself, now and later.
    pub fn from_sqlstate(code: &str) -> Option<NotNow> {
        Some(match code {
            "53100" => NotNow::DiskFull,
            "53200" => NotNow::OutOfMemory,
            "53300" => NotNow::TooManyConnections,
            "25006" => NotNow::ReadOnly,
            "57P01" | "57P02" | "57P03" => NotNow::NotReady,
            "55P03" => NotNow::Conflict,
            "3D000" => NotNow::NotLetIn,
            _ => match code.get(..2)? {
                "08" => NotNow::NoAnswer,
                "28" => NotNow::NotLetIn,
                "40" | "57" => NotNow::Conflict,
                "53" => NotNow::OutOfMemory,
                "58" => NotNow::SystemFault,
                _ => return None,
            },
        })
    }

    /// What is wrong, as a sentence.
    pub fn sentence(self) -> &'static str {
        match self {
            NotNow::NoAnswer => "PostgreSQL does not answer.",
            NotNow::NotReady => "PostgreSQL is starting or shutting down.",
            NotNow::NotLetIn => "PostgreSQL does not let this service in.",
            NotNow::DiskFull => "PostgreSQL's disk is full.",
            NotNow::ReadOnly => "PostgreSQL takes no changes: it is set to be read only.",
            NotNow::TooManyConnections => "PostgreSQL has as many connections as it takes.",
            NotNow::OutOfMemory => "PostgreSQL has no memory left.",
            NotNow::Conflict => "PostgreSQL was held up by other changes of the same.",
            NotNow::SystemFault => "PostgreSQL cannot read or write its files.",
        }
    }

    /// What to do, as a sentence.
    pub fn remedy(self) -> &'static str {
        match self {
            NotNow::NoAnswer => "Start it, and look at its log.",
            NotNow::NotReady => "Wait a moment; if it stays so, look at its log.",
            NotNow::NotLetIn => {
                "Give the role its rights again; PostgreSQL's log says what it lacks."
            }
            NotNow::DiskFull => "Make room on the disk where it keeps its files.",
            NotNow::ReadOnly => {
                "Set default_transaction_read_only to off, or name the server that takes changes."
            }
            NotNow::TooManyConnections => "End what else uses it, or raise max_connections.",
            NotNow::OutOfMemory => "End what else uses memory on its host, or give it more.",
            NotNow::Conflict => "Try again.",
            NotNow::SystemFault => "Look at its log, and at the disk.",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_may_pass_is_told_from_what_is_refused_for_itself() {
        for (code, cause) in [
            ("53100", NotNow::DiskFull),
            ("53400", NotNow::OutOfMemory),
            ("25006", NotNow::ReadOnly),
            ("57P03", NotNow::NotReady),
            ("57014", NotNow::Conflict),
            ("40P01", NotNow::Conflict),
            ("58030", NotNow::SystemFault),
            ("08006", NotNow::NoAnswer),
            ("28P01", NotNow::NotLetIn),
        ] {
            assert_eq!(NotNow::from_sqlstate(code), Some(cause), "{code}");
        }
        for code in ["22021", "23505", "42501", "XX001", "", "4"] {
            assert_eq!(NotNow::from_sqlstate(code), None, "{code}");
        }
    }
}
