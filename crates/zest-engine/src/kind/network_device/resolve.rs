//! Network devices with their references followed.

use std::borrow::Cow;
use std::sync::Arc;

use rustc_hash::FxHashMap;

use crate::links::resolve::Ground;
use crate::links::{CommandId, Index, Networks, OwnLevel, Party, Resolver, SetId, VocabularyId, look_up};
use zest_model::entry;
use zest_model::finding::{Code, Finding};
use zest_model::source::{At, Place, visible};

/// What one device holds. A copy shares the lists.
#[derive(Clone, Debug)]
pub struct DeviceLinks {
    pub vocabulary: VocabularyId,
    /// The device's own level of every command of the vocabulary, with the place that states it.
    pub(crate) levels: Arc<[OwnLevel]>,
    pub(crate) accounts: Arc<[AccountLinks]>,
}

#[derive(Debug)]
pub(crate) struct AccountLinks {
    pub(crate) used_by: Vec<(Party, Place)>,
    pub(crate) origin: Option<Networks>,
    /// Command sets of its own.
    pub(crate) sets: Vec<SetId>,
}

pub(super) fn device(resolver: &mut Resolver<'_>, ground: Ground<'_>, system: &entry::System) -> DeviceLinks {
    let shown = visible(&system.id.value);
    let mut missing = |key: &str, help: &str| {
        resolver.findings.push(
            Finding::new(Code::IncompleteSystem, format!("the network device `{shown}` does not state `{key}`"))
                .at(system.id.place, format!("`{key}` is missing"))
                .help(help),
        );
    };
    if system.no_command_set.is_none() {
        missing(
            "no-command-set",
            "write no-command-set = \"nothing\" (or \"everything\"): what holds where no command set is attached is never guessed",
        );
    }
    if system.vocabulary.is_none() {
        missing("vocabulary", "name the vocabulary its make speaks: vocabulary = \"ID\"");
    }
    if let Some(sources) = &system.identity_sources
        && sources.value.is_empty()
    {
        missing("identity-sources", "name at least one of \"central\" and \"local\"");
    }
    let vocabulary =
        system.vocabulary.as_ref().and_then(|t| look_up(&resolver.names.vocabularies, "vocabulary", &t.value, t.place, resolver.findings));
    let spoken = vocabulary.map(|id| &ground.vocabularies[id.index()]);
    let mut levels = spoken.map_or_else(Arc::default, |spoken| Arc::clone(&spoken.levels));
    if let Some(spoken) = spoken.filter(|_| !system.own_levels.is_empty()) {
        let commands: Index<CommandId> =
            spoken.commands.iter().enumerate().map(|(i, c)| (c.line.as_str().into(), CommandId::new(i))).collect();
        let mut own_levels = levels.to_vec();
        for own in &system.own_levels {
            resolver.level(&own.level);
            let found = look_up(&commands, "command of the vocabulary", own.command.value.trim(), own.command.place, resolver.findings);
            if let Some(command) = found {
                own_levels[command.index()] = (own.level.value, Some(own.level.place));
            }
        }
        levels = own_levels.into();
    }
    let mut logins: FxHashMap<Cow<'_, str>, &At<String>> = FxHashMap::default();
    let mut accounts = Vec::with_capacity(system.accounts.len());
    for account in &system.accounts {
        let login = account.login.value.as_str();
        let key = if system.ignores_case() { login.to_lowercase().into() } else { login.into() };
        if let Some(first) = logins.insert(key, &account.login) {
            let (login, other) = (visible(login), visible(&first.value));
            let text = if first.value == account.login.value {
                format!("the account `{login}` is declared twice on `{shown}`")
            } else {
                format!("the accounts `{other}` and `{login}` are one on `{shown}`, which ignores the case of names")
            };
            resolver.findings.push(
                Finding::new(Code::DuplicateId, text)
                    .at(account.login.place, "declared again here")
                    .also(first.place, "first declared here"),
            );
        }
        resolver.band(account.band.as_ref());
        let used_by = resolver.parties(&account.used_by);
        let origin = account.origin.as_ref().map(|list| resolver.origins(list));
        let sets = account.commands.iter();
        let sets =
            sets.filter_map(|text| look_up(&resolver.names.sets, "command set", &text.value, text.place, resolver.findings)).collect();
        accounts.push(AccountLinks { used_by, origin, sets });
    }
    DeviceLinks { vocabulary: vocabulary.unwrap_or(VocabularyId::new(0)), levels, accounts: accounts.into() }
}
