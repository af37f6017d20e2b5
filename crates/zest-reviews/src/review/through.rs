//! Through what several actions are held: what their grounds say alike.

/// What the grounds of several actions say alike: words, and gaps where they differ.
pub(super) struct Through(Vec<Option<String>>);

impl Through {
    /// Takes what the ground of the first says.
    pub(super) fn of(text: &str) -> Self {
        Self(text.split(' ').map(|word| Some(word.to_owned())).collect())
    }

    /// Leaves what another ground says as well.
    pub(super) fn and(&mut self, text: &str) {
        let words: Vec<&str> = text.split(' ').collect();
        let is = |known: &Option<String>, word: &str| known.as_deref() == Some(word);
        if words.len() == self.0.len() {
            self.0.iter_mut().zip(words).filter(|(known, word)| !is(known, word)).for_each(|(known, _)| *known = None);
            return;
        }
        let start = self.0.iter().zip(&words).take_while(|(known, word)| is(known, word)).count();
        let rest = self.0.len().min(words.len()) - start;
        let end = self.0.iter().rev().zip(words.iter().rev()).take(rest).take_while(|(known, word)| is(known, word)).count();
        let end = self.0.len() - end;
        self.0.splice(start..end, [None]);
    }

    /// Tells it; by what something is held, if that is all there is to say.
    pub(super) fn told(&self) -> String {
        let Self(words) = self;
        let by = words.iter().rposition(Option::is_none).map_or(0, |gap| gap + 1);
        let by = words.get(by).is_some_and(|word| matches!(word.as_deref(), Some("through" | "by"))).then_some(by);
        let mut told: Vec<&str> = words[by.unwrap_or(0)..].iter().map(|word| word.as_deref().unwrap_or("…")).collect();
        told.dedup_by(|next, before| *next == "…" && *before == "…");
        // What a bracket around a gap says is said of each action where that stands.
        let text = told.join(" ");
        let is_cut = text.matches(')').count() > text.matches('(').count();
        match text.rfind(" …").filter(|_| is_cut) {
            Some(gap) => text[..gap].to_owned(),
            None => text,
        }
    }
}
