//! Which directory on a path stops whoever wants to read a folder, and what opens that one.

/// A directory as the file system has it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DirectoryRights {
    /// Its path.
    pub path: String,
    /// Its permission bits.
    pub mode: u32,
    /// Its owner's number.
    pub owner: u32,
    /// Its group's number.
    pub group: u32,
}

/// Whoever wants to read: a user and all groups that it is in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reader {
    /// The user's number; 0 may do everything.
    pub user: u32,
    /// The groups' numbers.
    pub groups: Vec<u32>,
}

/// A directory that stops a reader.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Obstacle {
    /// Its path.
    pub path: String,
    /// Whether it is the folder itself, which is to be listed, and not one on the way to it.
    pub is_folder: bool,
    /// Whose bits count for the reader.
    class: Class,
}

/// Whose permission bits count.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Class {
    Owner,
    Group,
    Others,
}

impl Obstacle {
    /// The first of the directories on a path, from the root to the folder, that does not let the
    /// reader through; `None` when their permission bits let it.
    pub fn on_path(directories: &[DirectoryRights], reader: &Reader) -> Option<Obstacle> {
        if reader.user == 0 {
            return None;
        }
        let last = directories.len().checked_sub(1)?;
        directories.iter().enumerate().find_map(|(at, directory)| {
            let is_folder = at == last;
            let (class, shift) = if directory.owner == reader.user {
                (Class::Owner, 6)
            } else if reader.groups.contains(&directory.group) {
                (Class::Group, 3)
            } else {
                (Class::Others, 0)
            };
            let needed = if is_folder { 0o5 } else { 0o1 };
            let open = directory.mode >> shift & needed == needed;
            (!open).then(|| Obstacle { path: directory.path.clone(), is_folder, class })
        })
    }

    /// The command that opens this directory, and no other, to a group of the reader's.
    pub fn command(&self, group: &str) -> String {
        let bits = if self.is_folder { "rx" } else { "x" };
        let path = quoted(&self.path);
        match self.class {
            Class::Owner => format!("sudo chmod u+{bits} {path}"),
            Class::Group => format!("sudo chmod g+{bits} {path}"),
            Class::Others => {
                format!("sudo chgrp {group} {path} && sudo chmod g+{bits} {path}")
            }
        }
    }
}

/// A path as one word of a shell.
fn quoted(path: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "/._-".contains(c);
    if path.chars().all(plain) {
        return path.to_owned();
    }
    format!("'{}'", path.replace('\'', r"'\''"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn directory(path: &str, mode: u32, owner: u32, group: u32) -> DirectoryRights {
        DirectoryRights { path: path.into(), mode, owner, group }
    }

    const READER: fn() -> Reader = || Reader { user: 900, groups: vec![900, 44] };

    #[test]
    fn the_first_that_stops_is_named_with_what_opens_it() {
        let way = |home: u32, films: u32| {
            [
                directory("/", 0o755, 0, 0),
                directory("/home", 0o755, 0, 0),
                directory("/home/ilka", home, 1000, 1000),
                directory("/home/ilka/My Films", films, 1000, 1000),
            ]
        };
        let found = Obstacle::on_path(&way(0o700, 0o700), &READER()).unwrap();
        assert_eq!((found.path.as_str(), found.is_folder), ("/home/ilka", false));
        assert_eq!(
            found.command("mostra-media"),
            "sudo chgrp mostra-media /home/ilka && sudo chmod g+x /home/ilka"
        );
        let found = Obstacle::on_path(&way(0o711, 0o750), &READER()).unwrap();
        assert_eq!(
            found.command("mostra-media"),
            "sudo chgrp mostra-media '/home/ilka/My Films' && sudo chmod g+rx '/home/ilka/My Films'"
        );
        assert_eq!(Obstacle::on_path(&way(0o711, 0o755), &READER()), None);
        // Its own group, without the bit; and its own directory.
        let shared = [directory("/srv", 0o755, 0, 0), directory("/srv/films", 0o740, 1000, 44)];
        let found = Obstacle::on_path(&shared, &READER()).unwrap();
        assert_eq!(found.command("mostra-media"), "sudo chmod g+rx /srv/films");
        let own = [directory("/srv", 0o755, 0, 0), directory("/srv/own", 0o055, 900, 44)];
        let found = Obstacle::on_path(&own, &READER()).unwrap();
        assert_eq!(found.command("mostra-media"), "sudo chmod u+rx /srv/own");
        // Whoever may do everything is stopped by none, and no path is one that stops.
        let root = Reader { user: 0, groups: vec![] };
        assert_eq!(Obstacle::on_path(&way(0, 0), &root), None);
        assert_eq!(Obstacle::on_path(&[], &READER()), None);
    }

    /// What a shell reads as one word: plain letters, what stands in single quotes, and a quote
    /// behind a backslash.
    fn word(text: &str) -> Option<String> {
        let (mut word, mut letters) = (String::new(), text.chars());
        while let Some(letter) = letters.next() {
            match letter {
                '\'' => loop {
                    match letters.next()? {
                        '\'' => break,
                        inside => word.push(inside),
                    }
                },
                '\\' => word.push(letters.next().filter(|c| *c == '\'')?),
                c if c.is_ascii_alphanumeric() || "/._-".contains(c) => word.push(c),
                _ => return None,
            }
        }
        Some(word)
    }

    proptest! {
        #[test]
        fn no_path_is_more_than_one_word_of_a_shell(path in "/[a-z '$`;&|\"\\\\]{0,20}") {
            prop_assert_eq!(word(&quoted(&path)), Some(path));
        }
    }
}
