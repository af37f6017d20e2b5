//! The table of objects and their obligations.

use zest_engine::Engine;
use zest_engine::kind::service::links::ServiceLinks;
use zest_engine::kind::service::review::obligations as words;
use zest_engine::links::Duties;
use zest_model::More;
use zest_model::listing::ObjectObligations;
use zest_model::source::visible;

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
            let of_right = |(&right, duties): (&usize, &Duties)| (visible(&links.operations[right].name), words(engine, duties));
            ObjectObligations {
                object: path.to_string(),
                attributes: resource.attributes.iter().map(|(k, v)| (k.value.clone(), v.value.clone())).collect(),
                own: resource.duties.as_ref().map_or_else(Vec::new, |d| words(engine, d)),
                of_type: of.and_then(|t| t.duties.as_ref()).map_or_else(Vec::new, |d| words(engine, d)),
                of_rights: of.iter().flat_map(|t| &t.right_duties).map(of_right).collect(),
                place: engine.estate().sources().locate(resource.place),
                more: More,
            }
        })
        .collect();
    table.sort_by(|a, b| a.object.cmp(&b.object));
    Some(table)
}
