//! Findings as JSON, each place with its file, line and column.

use serde::{Deserialize, Serialize, Serializer};

use super::Format;
use crate::finding::{Finding, Findings, Label};
use crate::source::Location;

/// The findings of a ledger as they are written: places are those of the documents, and need them no more.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, json::Defects};
/// let findings = Ledger::new().document("people.toml", "[users.watch-1]\nproofs = [\"pasword\"]\n").validate().findings;
/// let text = serde_json::to_string(&findings).expect("they can be written");
/// let read: Defects = serde_json::from_str(&text).expect("they can be read");
/// let at = read.findings[0].at.as_ref().expect("it is in a document");
/// assert_eq!((read.findings[0].code.as_str(), at.place.line), ("ZL0109", 2));
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Defects {
    format: Format,
    /// The findings, by place.
    pub findings: Vec<Defect>,
}

/// One finding as it is written.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, json::Defects};
/// let findings = Ledger::new().document("people.toml", "[users.watch-1]\nproofs = ['pasword']\n").validate().findings;
/// let defect = &Defects::from(&findings).findings[0];
/// assert_eq!((defect.name.as_str(), defect.severity.as_str()), ("unknown-word", "error"));
/// assert!(defect.help.as_ref().expect("it can be mended").contains("password"));
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Defect {
    /// The code, such as `ZL0109`.
    pub code: String,
    /// Its name, such as `bad-value`.
    pub name: String,
    /// `error`, `warning` or `note`.
    pub severity: String,
    /// The fact.
    pub message: String,
    /// Where it is; nowhere for what concerns the ledger as a whole.
    pub at: Option<Remark>,
    /// Other places that matter.
    pub also: Vec<Remark>,
    /// How to mend it.
    pub help: Option<String>,
}

/// A place, and what is to be said about it.
///
/// # Example
/// ```
/// use zest_ledger::{Ledger, json::Defects};
/// let findings = Ledger::new().document("a.toml", "[users.watch-1]\n").document("b.toml", "[users.watch-1]\n").validate().findings;
/// let defect = &Defects::from(&findings).findings[0];
/// let at = defect.at.as_ref().expect("it is in a document");
/// assert_eq!((at.place.file.as_str(), at.place.line, defect.also[0].place.line), ("b.toml", 1, 1));
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
pub struct Remark {
    /// The place.
    pub place: Location,
    /// What is said about it; it may be empty.
    pub text: String,
}

impl From<&Findings> for Defects {
    fn from(findings: &Findings) -> Self {
        let remark = |label: &Label| Remark { place: findings.sources().locate(label.place), text: label.text.clone() };
        let defect = |finding: &Finding| {
            let Finding { code, message, primary, secondary, help } = finding;
            Defect {
                code: code.number().to_owned(),
                name: code.slug().to_owned(),
                severity: finding.severity().word().to_owned(),
                message: message.clone(),
                at: primary.as_ref().map(remark),
                also: secondary.iter().map(remark).collect(),
                help: help.clone(),
            }
        };
        Self { format: Format, findings: findings.list().iter().map(defect).collect() }
    }
}

impl Serialize for Findings {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        Defects::from(self).serialize(serializer)
    }
}
