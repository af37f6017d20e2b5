//! Dotted names, as both servers write them.

/// Splits a dotted name; what follows it, such as `(integer)`, is returned as well.
pub(crate) fn parts(text: &str) -> Option<(Vec<String>, &str)> {
    let mut parts = Vec::new();
    let mut rest = text;
    loop {
        if let Some(inner) = rest.strip_prefix('"') {
            let mut part = String::new();
            let mut chars = inner.char_indices();
            let end = loop {
                let (i, c) = chars.next()?;
                if c != '"' {
                    part.push(c);
                } else if inner[i + 1..].starts_with('"') {
                    part.push('"');
                    chars.next();
                } else {
                    break i + 1;
                }
            };
            parts.push(part);
            rest = &inner[end..];
        } else {
            let end = rest.find(['.', '(', ' ', '"']).unwrap_or(rest.len());
            if end > 0 {
                parts.push(rest[..end].to_owned());
            } else if !parts.is_empty() {
                return None;
            }
            rest = &rest[end..];
        }
        match rest.strip_prefix('.') {
            Some(more) => rest = more,
            None => return Some((parts, rest)),
        }
    }
}
