//! The table of objects and their obligations.

use zest_engine::Engine;
use zest_engine::kind::service::links::ServiceLinks;
use zest_engine::kind::service::review::obligations as words;
use zest_model::source::{Location, visible};

/// What must be done before a right on an object takes effect.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct ObjectObligations {
    /// The object's path, `TYPE/NAME`; on a cloud a container's or resource's.
    pub path: String,
    /// Its attributes.
    pub attributes: Vec<(String, String)>,
    /// Obligations of the object itself, in words.
    pub own: Vec<String>,
    /// Obligations of its type, in words.
    pub of_type: Vec<String>,
    /// Obligations of single rights of its type: the right, and what it wants, in words.
    pub of_rights: Vec<(String, Vec<String>)>,
    /// Where the object is written.
    pub location: Location,
}

/// Returns the obligations of all objects of a cloud or an application, by path; nothing for other systems.
///
/// # Example
/// ```
/// use zest_ledger::{Engine, Ledger, review::obligations};
/// let estate = Ledger::new().document("ramps.toml", r#"
/// [systems.ramps]
/// kind = "application"
/// [applications.ramps]
/// types.ramp = { rights = ["lower"], after = { confirm = true } }
/// objects."ramp/north" = { after = { prove-again = "5m" } }
/// "#).estate()?;
/// let table = obligations(&Engine::compile(estate)?, "ramps").expect("it is an application");
/// assert_eq!((table[0].own.as_slice(), table[0].of_type.as_slice()), (&["prove identity within 5m".to_owned()][..], &["confirm".to_owned()][..]));
/// # Ok::<(), zest_ledger::finding::Findings>(())
/// ```
#[must_use]
pub fn obligations(engine: &Engine, system: &str) -> Option<Vec<ObjectObligations>> {
    let id = engine.estate().names().systems.get(system)?;
    let links = engine.estate().links::<ServiceLinks>(*id)?;
    let mut table: Vec<ObjectObligations> = links
        .resources
        .iter()
        .map(|(path, resource)| {
            let of = links.types.get(path.split('/').next().unwrap_or_default()).filter(|_| links.is_application);
            let mut of_rights: Vec<(String, Vec<String>)> =
                of.iter().flat_map(|t| &t.right_duties).map(|(&r, d)| (visible(&links.operations[r].name), words(engine, d))).collect();
            of_rights.sort();
            ObjectObligations {
                path: path.to_string(),
                attributes: resource.attributes.iter().map(|(k, v)| (k.value.clone(), v.value.clone())).collect(),
                own: resource.duties.as_ref().map_or_else(Vec::new, |d| words(engine, d)),
                of_type: of.and_then(|t| t.duties.as_ref()).map_or_else(Vec::new, |d| words(engine, d)),
                of_rights,
                location: engine.estate().sources().locate(resource.place),
            }
        })
        .collect();
    table.sort_by(|a, b| a.path.cmp(&b.path));
    Some(table)
}
