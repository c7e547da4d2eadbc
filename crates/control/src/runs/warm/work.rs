//! The work of a warm run: what it refills, and what it needs to be resumed.

use std::cmp::Reverse;
use std::collections::HashMap;
use std::time::Duration;

use serde::{Deserialize, Serialize};
use verax_api::WarmRequest;
use verax_core::Key;
use verax_core::warm::{WarmOrder, WarmSettings};

use super::settings::settings_of;
use crate::error::ControlError;
use crate::registry::Registered;
use crate::runs::keys::RunKeys;

/// What a warm run refills, and how.
#[derive(Debug)]
pub(super) struct WarmWork {
    pub(super) keys: Vec<Key>,
    /// The source of each key.
    pub(super) sources: Vec<u16>,
    pub(super) source_names: Vec<String>,
    pub(super) request: WarmRequest,
    pub(super) settings: WarmSettings,
}

/// How it is kept.
#[derive(Serialize, Deserialize)]
struct KeptWork {
    request: WarmRequest,
    source_names: Vec<String>,
    sources: Vec<u16>,
    keys: Vec<String>,
}

impl WarmWork {
    /// The work of a request whose keys are known, in the order that it asks for.
    pub(super) fn new(
        namespace: &Registered,
        request: &WarmRequest,
        settings: WarmSettings,
        found: RunKeys,
    ) -> Self {
        let RunKeys { keys, sources, names, .. } = found;
        // The keys are known: their sources are not needed again.
        let request = WarmRequest { keys: Vec::new(), ..request.clone() };
        let mut work = Self { keys, sources, source_names: names, request, settings };
        work.sort(namespace);
        work
    }

    fn sort(&mut self, namespace: &Registered) {
        let order = match self.settings.order {
            WarmOrder::Given => return,
            WarmOrder::HottestFirst => {
                let hot = namespace.hottest(verax_core::heat::MAX_KEYS).keys;
                let most = hot.len();
                let hot: HashMap<String, usize> =
                    hot.into_iter().enumerate().map(|(at, hot)| (hot.key, most - at)).collect();
                // The rank of a key, and the rest in their given order.
                self.order_by(|key| Reverse(hot.get(key.as_str()).copied().unwrap_or(0)))
            }
            WarmOrder::CheapestFirst => {
                let took = |key: &Key| {
                    let known = namespace.peek(key.as_str());
                    known.map(|entry| entry.refill_took()).filter(|took| !took.is_zero())
                };
                self.order_by(|key| took(key).unwrap_or(Duration::MAX))
            }
        };
        self.keys = order.iter().map(|at| self.keys[*at].clone()).collect();
        self.sources = order.iter().map(|at| self.sources[*at]).collect();
    }

    fn order_by<O: Ord>(&self, rank: impl Fn(&Key) -> O) -> Vec<usize> {
        let mut order: Vec<usize> = (0..self.keys.len()).collect();
        order.sort_by_cached_key(|at| rank(&self.keys[*at]));
        order
    }

    /// The bytes to keep.
    pub(super) fn kept(&self) -> Vec<u8> {
        let kept = KeptWork {
            request: self.request.clone(),
            source_names: self.source_names.clone(),
            sources: self.sources.clone(),
            keys: self.keys.iter().map(|key| key.as_str().to_owned()).collect(),
        };
        // Texts and numbers can always be written.
        serde_json::to_vec(&kept).unwrap_or_default()
    }

    /// Reads what was kept.
    ///
    /// # Errors
    /// Why it cannot be read.
    pub(super) fn read(kept: &[u8]) -> Result<Self, String> {
        let kept: KeptWork = serde_json::from_slice(kept).map_err(|e| e.to_string())?;
        let keys: Result<Vec<Key>, _> = kept.keys.into_iter().map(Key::new).collect();
        let settings = settings_of(&kept.request).map_err(|e: ControlError| e.to_string())?;
        Ok(Self {
            keys: keys.map_err(|e| e.to_string())?,
            sources: kept.sources,
            source_names: kept.source_names,
            request: kept.request,
            settings,
        })
    }
}
