//! Documentation that is made from the code: `docs/findings.md` from the rules.

use std::fmt::Write;
use std::path::Path;

use tarvek_core::rules::registry::rules;

const FINDINGS: &str = "docs/findings.md";

fn findings() -> String {
    let mut text = "# Findings\n\nWhat `tarvek check` can find. Made from the rules by `cargo \
                    xtask docs`; \
                    `tarvek explain RULE` says the same.\n\n| rule | severity | in one line |\n\
                    |---|---|---|\n"
        .to_owned();
    for rule in rules() {
        let anchor = rule.id.replace('/', "");
        let _ = writeln!(
            text,
            "| [`{}`](#{anchor}) | {} | {} |",
            rule.id,
            rule.severity.word(),
            rule.title
        );
    }
    for rule in rules() {
        let _ = write!(
            text,
            "\n## {}\n\n**{}** ({})\n\n{}\n\n*Why it hurts.* {}\n\n*What to do.* {}\n\n*Example.* \
             {}\n",
            rule.id,
            rule.title,
            rule.severity.word(),
            rule.means,
            rule.hurts,
            rule.fix,
            rule.example
        );
    }
    text
}

/// Writes it.
pub(crate) fn write(root: &Path) -> Result<(), String> {
    std::fs::write(root.join(FINDINGS), findings()).map_err(|error| format!("{FINDINGS}: {error}"))
}

/// Fails if it is not what the code says.
pub(crate) fn check(root: &Path) -> Result<(), String> {
    let there = std::fs::read_to_string(root.join(FINDINGS)).unwrap_or_default();
    if there == findings() {
        Ok(())
    } else {
        Err(format!("{FINDINGS} is stale: run `cargo xtask docs`"))
    }
}
