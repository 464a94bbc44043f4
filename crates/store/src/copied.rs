//! Rows of files in PostgreSQL's binary copy format: nothing to escape and no numbers to spell
//! on either side, which a million rows notice.

use std::sync::Arc;

use mostra_core::catalogue::File;
use mostra_core::facts::Facts;
use mostra_core::ids::FileId;

use crate::StoreError;
use crate::unread::UnreadRows;

/// What a copy begins with: signature, no flags, no extension.
pub(crate) const HEAD: &[u8] = b"PGCOPY\n\xff\r\n\0\0\0\0\0\0\0\0\0";
/// What it ends with.
pub(crate) const END: &[u8] = &(-1i16).to_be_bytes();

/// Fields of a row: id, container_id, name, facts.
const FIELDS: i16 = 4;

/// Appends a file's row.
pub(crate) fn row(rows: &mut Vec<u8>, file: &File) -> serde_json::Result<()> {
    rows.extend(FIELDS.to_be_bytes());
    for number in [file.serial.0, file.directory] {
        rows.extend(8i32.to_be_bytes());
        rows.extend(i64::from(number).to_be_bytes());
    }
    rows.extend((file.name.len() as i32).to_be_bytes());
    rows.extend(file.name.as_bytes());
    let length = rows.len();
    rows.extend([0; 4]);
    serde_json::to_writer(&mut *rows, &*file.facts)?;
    let facts = (rows.len() - length - 4) as i32;
    rows[length..length + 4].copy_from_slice(&facts.to_be_bytes());
    Ok(())
}

/// Reads rows, each whole; what begins and ends a copy may stand among them. A row that cannot be
/// read is passed over and noted.
pub(crate) fn read(mut rows: &[u8], unread: &UnreadRows) -> Result<Vec<File>, StoreError> {
    rows = rows.strip_prefix(HEAD).unwrap_or(rows);
    let mut files = Vec::new();
    while !rows.is_empty() && rows != END {
        files.extend(file(&mut rows, unread)?);
    }
    Ok(files)
}

fn file(rows: &mut &[u8], unread: &UnreadRows) -> Result<Option<File>, StoreError> {
    let cut = || StoreError::Damaged("a file's row is cut off".into());
    let fields = i16::from_be_bytes(*rows.split_first_chunk().ok_or_else(cut)?.0);
    *rows = &rows[2..];
    if fields != FIELDS {
        return Err(StoreError::Damaged(format!("a file's row has {fields} fields")));
    }
    let mut field = || {
        let (length, rest) = rows.split_first_chunk().ok_or_else(cut)?;
        let length = usize::try_from(i32::from_be_bytes(*length)).map_err(|_| cut())?;
        let (field, rest) = rest.split_at_checked(length).ok_or_else(cut)?;
        *rows = rest;
        Ok::<_, StoreError>(field)
    };
    let (serial, directory, name, facts) = (field()?, field()?, field()?, field()?);
    let number = |field: &[u8]| field.try_into().map(i64::from_be_bytes).map_err(|_| cut());
    let (serial, directory) = (number(serial)?, number(directory)?);
    let read = || {
        let facts: Facts = serde_json::from_slice(facts).map_err(|e| e.to_string())?;
        let name = std::str::from_utf8(name).map_err(|e| e.to_string())?.to_owned();
        let small = |number: i64| u32::try_from(number).map_err(|e| e.to_string());
        let (serial, directory) = (FileId(small(serial)?), small(directory)?);
        Ok::<_, String>(File { serial, directory, name, facts: Arc::new(facts) })
    };
    Ok(unread.pass_over(|| format!("file {serial}"), read()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use mostra_core::Kind;
    use mostra_core::format::Format;

    #[test]
    fn a_row_of_another_form_costs_itself_alone() {
        let facts = Facts::bare(Kind::Music, Format::Mp3, 5, 6);
        let file = |serial| File {
            serial: FileId(serial),
            directory: 3,
            name: "a.mp3".into(),
            facts: facts.clone().into(),
        };
        let mut rows = HEAD.to_vec();
        for serial in [7, 8, 9] {
            let before = rows.len();
            row(&mut rows, &file(serial)).unwrap();
            if serial == 8 {
                let at = rows[before..].windows(4).position(|w| w == b"\"mp3").unwrap() + before;
                rows[at..at + 4].copy_from_slice(b"\"xyz");
            }
        }
        let unread = UnreadRows::default();
        assert_eq!(read(&rows, &unread).unwrap(), [file(7), file(9)]);
        let named: Vec<String> = unread.all().into_iter().map(|(row, _)| row).collect();
        assert_eq!(named, ["file 8"]);
    }

    #[test]
    fn rows_come_back_as_they_were() {
        let facts = Facts {
            title: Some("x\\\"y\t\u{1f4a1}".into()),
            ..Facts::bare(Kind::Music, Format::Mp3, 5, 6)
        };
        let file = File {
            serial: FileId(7),
            directory: 3,
            name: "a\tb\n.mp3".into(),
            facts: facts.into(),
        };
        let mut rows = HEAD.to_vec();
        row(&mut rows, &file).unwrap();
        row(&mut rows, &File { serial: FileId(u32::MAX), ..file.clone() }).unwrap();
        rows.extend(END);
        let none = UnreadRows::default();
        let read_back = read(&rows, &none).unwrap();
        assert_eq!(read_back, [file.clone(), File { serial: FileId(u32::MAX), ..file }]);
        assert_eq!(read(END, &none).unwrap(), []);
        for end in HEAD.len() + 1..rows.len() {
            // Cut anywhere but between two rows it is damaged, and says so.
            let first = (rows.len() - HEAD.len() - END.len()) / 2 + HEAD.len();
            let whole = end == first || end == rows.len() - END.len();
            assert_eq!(read(&rows[..end], &none).is_ok(), whole, "{end}");
        }
    }
}
