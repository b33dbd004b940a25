//! Files of variables, a `NAME=value` a line, as engines read them (`.env`, `env_file`).

/// A variable, its line from 1, and its value; `None` where the line only names it, so that whoever
/// starts the engine gives it.
pub(crate) type Variable = (String, u32, Option<String>);

/// Reads the lines; those that are none are told apart.
pub(crate) fn read(text: &str) -> (Vec<Variable>, Vec<u32>) {
    let (mut variables, mut odd) = (Vec::new(), Vec::new());
    for (n, line) in text.lines().enumerate() {
        let number = super::collect::number(n);
        let line = line.trim();
        if line.is_empty() || line.starts_with('#') {
            continue;
        }
        let line = line.strip_prefix("export ").unwrap_or(line).trim_start();
        let (name, value) = match line.split_once('=') {
            Some((name, value)) => (name.trim_end(), Some(unquoted(value.trim_start()))),
            None => (line, None),
        };
        let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '.' | '-');
        if name.is_empty() || !name.chars().all(plain) {
            odd.push(number);
        } else {
            variables.push((name.to_owned(), number, value));
        }
    }
    (variables, odd)
}

fn unquoted(value: &str) -> String {
    for quote in ['"', '\''] {
        if let Some(rest) = value.strip_prefix(quote)
            && let Some(end) = rest.find(quote)
        {
            return rest[..end].to_owned();
        }
    }
    // What stands behind a space and a hash is a comment.
    let comment = value.find(" #").or_else(|| value.find("\t#"));
    value[..comment.unwrap_or(value.len())].trim_end().to_owned()
}

#[cfg(test)]
mod tests {
    #[test]
    fn values_lose_their_quotes_and_comments() {
        let text = "A=1\n# no\nexport B = \"x # y\" # z\nC='$D'\nE\nF=a b # c\nnot one\nG=\n";
        let (variables, odd) = super::read(text);
        let values: Vec<_> =
            variables.iter().map(|(name, _, value)| (name.as_str(), value.as_deref())).collect();
        let expected = [
            ("A", Some("1")),
            ("B", Some("x # y")),
            ("C", Some("$D")),
            ("E", None),
            ("F", Some("a b")),
            ("G", Some("")),
        ];
        assert_eq!(values, expected);
        assert_eq!(odd, [7]);
    }
}
