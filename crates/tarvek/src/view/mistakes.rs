//! Mistakes in a file, pointed out in the person's own lines.

use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet};
use tarvek_core::words::text::{counted, shown};
use tarvek_formats::mistake::{Mistake, Refused};
use unicode_width::UnicodeWidthStr;

use super::style;

/// More than these are counted only.
const MOST: usize = 60;

/// All mistakes of a file, with their lines.
pub(crate) fn text(refused: &Refused, width: usize) -> String {
    let renderer = Renderer::styled()
        .term_width(width)
        .decor_style(DecorStyle::Unicode)
        .line_num(style::DIM)
        .error(style::DOUBTFUL)
        .context(style::DIM)
        .emphasis(style::STRONG);
    let mut out = String::new();
    for mistake in refused.mistakes.iter().take(MOST) {
        out += &one(&renderer, &refused.file, mistake, width);
        out += "\n\n";
    }
    let count = refused.mistakes.len() + refused.more;
    if count > MOST {
        out += &format!("… and {}.\n", counted((count - MOST) as u64, "further mistake"));
    }
    out += &format!(
        "tarvek: {} in {}; nothing was done\n",
        counted(count as u64, "mistake"),
        refused.file
    );
    out
}

fn one(renderer: &Renderer, file: &str, mistake: &Mistake, width: usize) -> String {
    let line = shown(mistake.excerpt.as_bytes());
    // Escapes before the column move it; secrets that were hidden may have shortened the line.
    let before: String = mistake.excerpt.chars().take(mistake.column - 1).collect();
    let meant: String =
        mistake.excerpt.chars().skip(mistake.column - 1).take(mistake.width).collect();
    let start = shown(before.as_bytes()).len().min(line.len());
    let end = (start + shown(meant.as_bytes()).len()).min(line.len());
    let place = format!("{file}:{}:{}", mistake.line, mistake.column);
    let title = format!("{place}: {}", mistake.message);
    let remedy = mistake.remedy.as_deref().unwrap_or("");
    // A long remedy would run over the edge beside its place, so it goes below.
    let beside = !line.is_empty() && end + remedy.width() + 10 <= width;
    let label = if beside { remedy } else { "" };
    let snippet = Snippet::source(line.as_str())
        .line_start(mistake.line)
        .annotation(AnnotationKind::Primary.span(start..end).label(label));
    let mut group = Group::with_title(Level::ERROR.no_name().primary_title(title.as_str()));
    if !line.is_empty() {
        group = group.element(snippet);
    }
    if !beside && !remedy.is_empty() {
        group = group.element(Level::HELP.no_name().message(remedy));
    }
    renderer.render(&[group])
}
