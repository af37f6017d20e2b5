//! The facts of a session as a document states them.

use jiff::Timestamp;

use super::{Fact, FactError, Session};
use crate::entry::{CentralSource, Facts};
use crate::source::{At, Place};

impl Facts {
    /// Returns the session of these facts, over those of another one that it builds on: what is stated here counts.
    ///
    /// # Errors
    /// Which fact cannot be read, where it is written, and why.
    pub fn session(&self, otherwise: &Session) -> Result<Session, (Fact, Place, FactError)> {
        let mut stated = Session::default();
        let mut all: Vec<(Fact, Vec<(String, Place)>)> = Vec::new();
        for fact in Fact::ALL {
            // A fact that is thought of has its arm here, or this does not compile.
            let texts = match fact {
                Fact::At => moment(self.at.as_ref()),
                Fact::Origin => one(self.from.as_ref()),
                Fact::Local => flag(self.local.as_ref()),
                Fact::Channel => self.by.as_ref().map(|by| vec![(by.value.word().to_owned(), by.place)]),
                Fact::Proofs => list(self.proofs.as_ref()),
                Fact::Level => self.level.as_ref().map(|level| vec![(level.value.to_string(), level.place)]),
                Fact::Mode => one(self.mode.as_ref()),
                Fact::Account => one(self.account.as_ref()),
                Fact::Roles => list(self.roles.as_ref()),
                Fact::Acting => list(Some(&self.acting).filter(|acting| !acting.is_empty())),
                Fact::Attributes => Some(&self.attributes)
                    .filter(|attributes| !attributes.is_empty())
                    .map(|all| all.iter().map(|(name, value)| (format!("{}={}", name.value, value.value), name.place)).collect()),
                Fact::Expires => moment(self.expires.as_ref()),
                Fact::Central => self.central.as_ref().map(|central| match central.value {
                    CentralSource::Up => Vec::new(),
                    CentralSource::Down => vec![(String::new(), central.place)],
                }),
                Fact::Confirmed => flag(self.confirmed.as_ref()),
                Fact::ApprovedBy => one(self.approved_by.as_ref()),
                Fact::ApproverProofs => list(self.approver_proofs.as_ref()),
            };
            all.extend(texts.map(|texts| (fact, texts)));
        }
        let is_said: Vec<Fact> = all.iter().map(|(fact, _)| *fact).collect();
        for (fact, texts) in all {
            for (text, place) in texts {
                stated.state(fact, &text).map_err(|why| (fact, place, why))?;
            }
        }
        for fact in Fact::ALL {
            let has_place = fact == Fact::Origin && stated.local || fact == Fact::Local && stated.origin.is_some();
            if !is_said.contains(&fact) && !has_place {
                stated.take(fact, otherwise);
            }
        }
        Ok(stated)
    }
}

fn one(text: Option<&At<String>>) -> Option<Vec<(String, Place)>> {
    text.map(|text| vec![(text.value.clone(), text.place)])
}

fn moment(moment: Option<&At<Timestamp>>) -> Option<Vec<(String, Place)>> {
    moment.map(|moment| vec![(moment.value.to_string(), moment.place)])
}

fn flag(flag: Option<&At<bool>>) -> Option<Vec<(String, Place)>> {
    flag.map(|flag| if flag.value { vec![(String::new(), flag.place)] } else { Vec::new() })
}

/// An empty list says that there are none.
fn list(texts: Option<&Vec<At<String>>>) -> Option<Vec<(String, Place)>> {
    let texts: Vec<(String, Place)> = texts?.iter().map(|text| (text.value.clone(), text.place)).collect();
    Some(if texts.is_empty() { vec![("none".to_owned(), Place::here())] } else { texts })
}
