//! The stand-in's screen as text.

use crate::persona::Persona;
use crate::stand_in::StandInState;

const WIDTH: usize = 58;
const ROWS: usize = 9;

/// Draws what a person before the device would see.
pub(crate) fn draw(persona: &Persona, state: &StandInState) -> String {
    let mut lines = vec![match &state.server {
        Some(server) if state.menu.is_empty() => server.name.clone(),
        Some(server) => format!("{} › {}", server.name, state.menu),
        None => "No media server".into(),
    }];
    lines.push(String::new());
    for object in state.listed.iter().take(ROWS) {
        let playing = state.take.as_ref().is_some_and(|t| t.title == object.title);
        let mark = if playing {
            "▶"
        } else if object.container {
            "▸"
        } else {
            " "
        };
        let count = object.child_count.map(|n| format!("  ({n})")).unwrap_or_default();
        lines.push(format!("{mark} {}{count}", object.title));
    }
    if state.listed.len() > ROWS {
        lines.push(format!("  … {} more", state.listed.len() - ROWS));
    }
    while lines.len() < ROWS + 3 {
        lines.push(String::new());
    }
    let mut said = String::new();
    for word in state.said.split(' ') {
        if said.chars().count() + 1 + word.chars().count() > WIDTH - 2 {
            lines.push(std::mem::take(&mut said));
        }
        said += if said.is_empty() { "" } else { " " };
        said += word;
    }
    lines.push(said);
    let title = format!("─ {} · {} ", persona.name, persona.maker);
    let mut out = format!("╭{title}{}╮\n", "─".repeat(WIDTH.saturating_sub(title.chars().count())));
    for line in lines {
        let cut: String = line.chars().take(WIDTH - 2).collect();
        out += &format!("│ {cut}{} │\n", " ".repeat(WIDTH - 2 - cut.chars().count()));
    }
    out + &format!("╰{}╯\n", "─".repeat(WIDTH))
}
