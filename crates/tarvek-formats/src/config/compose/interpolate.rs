//! Variables in the values of a Compose file (Compose Specification, "Interpolation").

/// More than this does not come of one value, in bytes.
const LONGEST: usize = 1 << 20;

/// Braces in braces go no deeper.
const DEEPEST: usize = 20;

/// What came of a value.
#[derive(Debug, Default, PartialEq, Eq)]
pub(super) struct Filled {
    pub(super) text: String,
    /// Variables without a value, which become nothing.
    pub(super) unset: Vec<String>,
}

/// Puts the values of variables into a text: `$NAME`, `${NAME}`, `${NAME:-default}`,
/// `${NAME-default}`, `${NAME:?message}`, `${NAME?message}`, `${NAME:+other}`, `${NAME+other}`,
/// also in each other; `$$` is a dollar.
///
/// # Errors
/// What is wrong with it, or the message of a variable that has to have a value.
pub(super) fn fill(
    text: &str,
    variable: &dyn Fn(&str) -> Option<String>,
) -> Result<Filled, String> {
    let mut filled = Filled::default();
    fill_into(text, variable, &mut filled, 0)?;
    Ok(filled)
}

fn fill_into(
    text: &str,
    variable: &dyn Fn(&str) -> Option<String>,
    filled: &mut Filled,
    depth: usize,
) -> Result<(), String> {
    if depth > DEEPEST {
        return Err(format!("variables are nested deeper than {DEEPEST}"));
    }
    let mut rest = text;
    while let Some(at) = rest.find('$') {
        filled.text.push_str(&rest[..at]);
        rest = &rest[at + 1..];
        if let Some(after) = rest.strip_prefix('$') {
            filled.text.push('$');
            rest = after;
        } else if let Some(after) = rest.strip_prefix('{') {
            let end = closing(after).ok_or("a brace after $ has no second one")?;
            braced(&after[..end], variable, filled, depth)?;
            rest = &after[end + 1..];
        } else {
            let end = name_end(rest);
            if end == 0 {
                return Err("a $ with no name behind it; a dollar by itself is written $$".into());
            }
            put(&rest[..end], variable(&rest[..end]), filled);
            rest = &rest[end..];
        }
        if filled.text.len() > LONGEST {
            return Err("it becomes longer than a megabyte".into());
        }
    }
    filled.text.push_str(rest);
    Ok(())
}

/// Where the brace closes that was opened before.
fn closing(text: &str) -> Option<usize> {
    let mut open = 0;
    let bytes = text.as_bytes();
    for (at, &byte) in bytes.iter().enumerate() {
        match byte {
            b'{' if at > 0 && bytes[at - 1] == b'$' => open += 1,
            b'}' if open == 0 => return Some(at),
            b'}' => open -= 1,
            _ => {}
        }
    }
    None
}

fn name_end(text: &str) -> usize {
    let starts = text.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_');
    if !starts {
        return 0;
    }
    text.find(|c: char| !c.is_ascii_alphanumeric() && c != '_').unwrap_or(text.len())
}

fn put(name: &str, value: Option<String>, filled: &mut Filled) {
    match value {
        Some(value) => filled.text.push_str(&value),
        None => filled.unset.push(name.to_owned()),
    }
}

fn braced(
    inside: &str,
    variable: &dyn Fn(&str) -> Option<String>,
    filled: &mut Filled,
    depth: usize,
) -> Result<(), String> {
    let end = name_end(inside);
    let (name, operation) = inside.split_at(end);
    if name.is_empty() {
        return Err("braces after $ hold the name of a variable".into());
    }
    let value = variable(name);
    let (mark, argument) = match operation.as_bytes() {
        [] => {
            put(name, value, filled);
            return Ok(());
        }
        [b':', b'-' | b'?' | b'+', ..] => operation.split_at(2),
        [b'-' | b'?' | b'+', ..] => operation.split_at(1),
        _ => {
            return Err(format!("{operation:?} is no way to write what follows a variable's name"));
        }
    };
    let given = value.filter(|value| !mark.starts_with(':') || !value.is_empty());
    match (mark.trim_start_matches(':'), given) {
        ("+", Some(_)) => fill_into(argument, variable, filled, depth + 1),
        ("+", None) => Ok(()),
        (_, Some(value)) => {
            filled.text.push_str(&value);
            Ok(())
        }
        ("-", None) => fill_into(argument, variable, filled, depth + 1),
        (_, None) => {
            let said = if argument.is_empty() { String::new() } else { format!(": {argument}") };
            Err(format!("{name} has to have a value, and has none{said}"))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_form_is_filled() {
        let variable = |name: &str| match name {
            "A" => Some("a".to_owned()),
            "E" => Some(String::new()),
            _ => None,
        };
        for (text, expected) in [
            ("$A/${A}x$$A", "a/ax$A"),
            ("${N:-d}${N-d}${E:-d}[${E-d}]", "ddd[]"),
            ("${N:-${A:-x}/y}", "a/y"),
            ("${A:+o}${A+o}${E:+o}${E+o}${N+o}", "ooo"),
            ("${A:?m}${E?m}", "a"),
            ("${N:-}", ""),
            ("no", "no"),
        ] {
            assert_eq!(fill(text, &variable).map(|f| f.text), Ok(expected.to_owned()), "{text}");
        }
        assert_eq!(fill("x$N${M}", &variable).unwrap().unset, ["N", "M"]);
        for text in ["$", "${", "${}", "${A", "${1}", "$1", "${A!x}", "${N?}", "${E:?why}", "a$-"] {
            assert!(fill(text, &variable).is_err(), "{text}");
        }
        let deep = format!("{}x{}", "${N:-".repeat(50), "}".repeat(50));
        assert!(fill(&deep, &variable).is_err());
    }
}
