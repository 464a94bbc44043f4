//! Man pages and shell completions of a program, made from its own arguments for packages.
#![forbid(unsafe_code)]

use std::io;
use std::path::Path;
use std::process::ExitCode;

use clap::{Command, CommandFactory};
use clap_complete::Shell;

/// The argument that has a program write its manual, before a directory.
const WRITE: &str = "--write-manual";

/// Writes the manual of a program whose arguments are `A`, if that is what it was started for, and
/// says how that ended. `section` is that of its man page.
pub fn asked<A: CommandFactory>(section: &str) -> Option<ExitCode> {
    let mut arguments = std::env::args_os().skip(1);
    if arguments.next()?.to_str() != Some(WRITE) {
        return None;
    }
    let Some(directory) = arguments.next() else {
        eprintln!("{WRITE} needs a directory");
        return Some(ExitCode::from(2));
    };
    Some(match write(A::command(), section, Path::new(&directory)) {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("the manual cannot be written: {error}");
            ExitCode::FAILURE
        }
    })
}

/// Writes `NAME.SECTION` and the completions for bash, zsh and fish into a directory.
///
/// # Errors
/// Those of the file system.
pub fn write(command: Command, section: &str, directory: &Path) -> io::Result<()> {
    std::fs::create_dir_all(directory)?;
    let name = command.get_name().to_owned();
    for shell in [Shell::Bash, Shell::Zsh, Shell::Fish] {
        clap_complete::generate_to(shell, &mut command.clone(), &name, directory)?;
    }
    // One page with all verbs, as people look them up under the program's name.
    let mut page = Vec::new();
    let whole = clap_mangen::Man::new(command.clone()).section(section);
    whole.render(&mut page)?;
    for verb in command.get_subcommands().filter(|verb| !verb.is_hide_set()) {
        verbs(&name, verb, &mut page)?;
    }
    std::fs::write(directory.join(format!("{name}.{section}")), page)
}

/// Adds a section for a verb, and for each below it.
fn verbs(before: &str, verb: &Command, page: &mut Vec<u8>) -> io::Result<()> {
    use io::Write as _;
    let name = format!("{before} {}", verb.get_name());
    let mut inner = verb.get_subcommands().filter(|inner| inner.get_name() != "help").peekable();
    if inner.peek().is_none() {
        writeln!(page, ".SH {}", name.replace('-', "\\-").to_uppercase())?;
        let man = clap_mangen::Man::new(verb.clone().bin_name(name.clone()));
        man.render_synopsis_section(page)?;
        man.render_description_section(page)?;
        man.render_options_section(page)?;
        return Ok(());
    }
    inner.try_for_each(|inner| verbs(&name, inner, page))
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::Arg;

    #[test]
    fn every_verb_is_in_the_page_and_known_to_the_shells() {
        let list = Command::new("list").about("List what there is");
        let add = Command::new("add").about("Add something").arg(Arg::new("label").long("label"));
        let command = Command::new("pell")
            .about("A program")
            .subcommand(Command::new("folder").about("Folders").subcommand(list).subcommand(add));
        let directory = std::env::temp_dir().join(format!("mostra-manual-{}", std::process::id()));
        write(command, "1", &directory).expect("written");
        let read = |name: &str| std::fs::read_to_string(directory.join(name)).expect(name);
        let page = read("pell.1");
        assert!(page.contains("PELL FOLDER LIST") && page.contains("PELL FOLDER ADD"), "{page}");
        assert!(page.contains("Add something") && page.contains("label"), "{page}");
        for shell in ["pell.bash", "_pell", "pell.fish"] {
            assert!(read(shell).contains("label"), "{shell}");
        }
        std::fs::remove_dir_all(directory).expect("removed");
    }
}
