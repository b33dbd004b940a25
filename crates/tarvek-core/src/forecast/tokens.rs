//! A name in words.

/// One word of a name.
#[derive(Clone, Copy, Debug)]
pub(super) struct Token<'a> {
    pub(super) text: &'a str,
    pub(super) start: usize,
    /// Which pair of brackets it stands in.
    pub(super) group: Option<u16>,
    /// A hyphen stands before it, apart from words.
    pub(super) dash: bool,
}

/// What stands between brackets.
#[derive(Clone, Copy, Debug)]
pub(super) struct Group<'a> {
    /// Where its bracket is.
    pub(super) start: usize,
    /// Behind its other bracket.
    pub(super) end: usize,
    pub(super) inside: &'a str,
    pub(super) round: bool,
}

/// A name without its ending, taken apart.
#[derive(Clone, Debug)]
pub(super) struct Tokens<'a> {
    pub(super) stem: &'a str,
    pub(super) words: Vec<Token<'a>>,
    pub(super) groups: Vec<Group<'a>>,
    /// Words are apart by blanks; else by dots, underscores or hyphens.
    pub(super) spaced: bool,
    /// Nothing but hyphens sets words apart.
    pub(super) hyphened: bool,
}

fn opens(c: char) -> Option<(char, bool)> {
    match c {
        '(' => Some((')', true)),
        '（' => Some(('）', true)),
        '[' => Some((']', false)),
        '{' => Some(('}', false)),
        '【' => Some(('】', false)),
        '「' => Some(('」', false)),
        _ => None,
    }
}

impl<'a> Tokens<'a> {
    /// Linear in the length of the name.
    pub(super) fn of(stem: &'a str) -> Self {
        let spaced = stem.contains(char::is_whitespace);
        let bytes = stem.bytes();
        let hyphens = bytes.clone().filter(|b| *b == b'-').count();
        let hyphened = !spaced && hyphens > 1 && !bytes.clone().any(|b| matches!(b, b'.' | b'_'));
        let mut tokens =
            Self { stem, words: Vec::with_capacity(16), groups: Vec::new(), spaced, hyphened };
        let mut start = None;
        let mut dash = false;
        // What closes the brackets that are open, and the group that is filled.
        let mut open: Option<(char, u16)> = None;
        // Brackets that nothing closes any more.
        let mut unclosed: Vec<char> = Vec::new();
        for (at, c) in stem.char_indices() {
            // Most characters are these, and none of them sets words apart.
            if c.is_ascii_alphanumeric() {
                start.get_or_insert(at);
                continue;
            }
            let closes = open.is_some_and(|(close, _)| c == close);
            let opened = opens(c).filter(|_| open.is_none());
            let apart = c.is_whitespace()
                || matches!(c, '.' | '_' | ',' | ';')
                || hyphened && c == '-'
                || closes
                || opened.is_some();
            if !apart {
                start.get_or_insert(at);
                continue;
            }
            if let Some(start) = start.take() {
                dash = tokens.word(start, at, open.map(|(_, group)| group), dash);
            }
            if closes && let Some((_, group)) = open.take() {
                let group = &mut tokens.groups[usize::from(group)];
                group.inside = &stem[group.start + group.inside.len()..at];
                group.end = at + c.len_utf8();
            }
            let count = u16::try_from(tokens.groups.len()).unwrap_or(u16::MAX);
            if let Some((close, round)) = opened
                && count < u16::MAX
                && !unclosed.contains(&close)
            {
                if !stem[at..].contains(close) {
                    unclosed.push(close);
                    continue;
                }
                // Until it is closed, `inside` is the bracket itself.
                let inside = &stem[at..at + c.len_utf8()];
                tokens.groups.push(Group { start: at, end: stem.len(), inside, round });
                open = Some((close, count));
            }
        }
        if let Some(start) = start {
            tokens.word(start, stem.len(), open.map(|(_, group)| group), dash);
        }
        tokens
    }

    /// Adds a word; whether the next one has a hyphen before it.
    fn word(&mut self, start: usize, end: usize, group: Option<u16>, dash: bool) -> bool {
        let text = &self.stem[start..end];
        if matches!(text, "-" | "–" | "—" | "~") {
            return true;
        }
        self.words.push(Token { text, start, group, dash });
        false
    }

    /// A word by its number.
    pub(super) fn text(&self, n: usize) -> Option<&'a str> {
        self.words.get(n).map(|token| token.text)
    }

    /// The whole group that a word stands in.
    pub(super) fn group_of(&self, token: &Token) -> Option<&Group<'a>> {
        self.groups.get(usize::from(token.group?))
    }
}
