//! The load profiles that a service offers: those of its directory, and those that are stored.

use std::sync::Arc;

use serde::{Deserialize, Serialize};
use verax_api::{LoadProfileSpec, LoadRun, OfferedProfile, SetBaseline, moment};
use verax_core::access::{Right, Scope};
use verax_core::{EntityTag, Name};
use verax_records::{DefinitionKind, DefinitionPath, DefinitionRecord};

use super::place::place_of;
use super::target;
use crate::access::Caller;
use crate::control::Control;
use crate::error::ControlError;
use crate::expected::Expected;
use crate::invalid::InvalidInput;
use crate::limits;
use crate::runs::keys::check_sources;
use crate::subject::Subject;

/// The most stored profiles of a tenant.
const MAX_PROFILES: usize = 500;

/// The most bytes of a profile.
const MAX_PROFILE_BYTES: usize = 1 << 20;

/// What is stored of a profile. One of the service's directory has no text here, but may have a
/// baseline.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
struct Stored {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    spec: Option<LoadProfileSpec>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    baseline: Option<u64>,
}

impl Stored {
    /// `None` for one of a later version.
    fn read(record: &DefinitionRecord) -> Option<Self> {
        serde_json::from_value(record.content.clone()).ok()
    }
}

/// The entity tag of a profile (RFC 9110, section 8.8.3); equal profiles have equal tags.
pub fn load_profile_tag(spec: &LoadProfileSpec) -> EntityTag {
    EntityTag::of("application/json", &serde_json::to_vec(spec).unwrap_or_default())
}

fn path_of(tenant: &Name, name: &Name) -> DefinitionPath {
    let kind = DefinitionKind::LoadProfile;
    DefinitionPath { kind, tenant: tenant.clone(), name: name.clone() }
}

/// Whether a caller may run a profile: that of a namespace it may load.
fn may_load(caller: &Caller, spec: &LoadProfileSpec) -> bool {
    place_of(&spec.namespace).is_ok_and(|(tenant, namespace)| {
        caller.holds_within(Right::Load, tenant.as_str(), namespace.as_str())
    })
}

/// What running a profile needs: the right to load, which includes that to read, and the rights to
/// what else it does.
fn needed_scopes(spec: &LoadProfileSpec) -> Result<Vec<Scope>, ControlError> {
    let (tenant, namespace) = place_of(&spec.namespace)?;
    let profile = spec.profile().map_err(ControlError::invalid)?;
    let mut scopes = target::scopes(&profile, &tenant, &namespace);
    scopes.retain(|scope| *scope != Scope::within(Right::Read, &tenant, &namespace));
    scopes.push(Scope::within(Right::Load, &tenant, &namespace));
    Ok(scopes)
}

impl Control {
    /// All profiles, of one tenant or of all, by tenant and name.
    async fn all_profiles(
        &self,
        tenant: Option<&Name>,
    ) -> Result<Vec<OfferedProfile>, ControlError> {
        let shipped = self.profiles.iter().filter_map(|spec| {
            let (of, _) = place_of(&spec.namespace).ok()?;
            let is_wanted = tenant.is_none_or(|tenant| *tenant == of);
            is_wanted.then(|| OfferedProfile {
                tenant: of.to_string(),
                is_shipped: true,
                changed_at: None,
                baseline: None,
                spec: spec.clone(),
            })
        });
        let mut offered: Vec<OfferedProfile> = shipped.collect();
        for record in self.records.definitions(DefinitionKind::LoadProfile, tenant).await? {
            let Some(stored) = Stored::read(&record) else { continue };
            let of = record.tenant.to_string();
            let place = offered.iter().position(|profile| {
                profile.tenant == of && profile.spec.name == record.name.as_str()
            });
            match (stored.spec, place) {
                (Some(spec), place) => {
                    let changed_at = Some(moment(record.changed_at));
                    let (tenant, is_shipped, baseline) = (of, false, stored.baseline);
                    let stored = OfferedProfile { tenant, is_shipped, changed_at, baseline, spec };
                    match place {
                        Some(place) => offered[place] = stored,
                        None => offered.push(stored),
                    }
                }
                (None, Some(place)) => offered[place].baseline = stored.baseline,
                // The baseline of a profile that the directory has no more.
                (None, None) => {}
            }
        }
        Ok(offered)
    }

    /// The profiles of namespaces that a caller may load. Without the records, those of the
    /// service's directory.
    pub async fn load_profiles(&self, caller: &Caller) -> Vec<OfferedProfile> {
        let all = self.all_profiles(None).await;
        let all = all.unwrap_or_else(|_| self.shipped_profiles());
        all.into_iter().filter(|profile| may_load(caller, &profile.spec)).collect()
    }

    fn shipped_profiles(&self) -> Vec<OfferedProfile> {
        let offered = |spec: &LoadProfileSpec| {
            let (tenant, _) = place_of(&spec.namespace).ok()?;
            let (changed_at, baseline) = (None, None);
            let (tenant, spec) = (tenant.to_string(), spec.clone());
            Some(OfferedProfile { tenant, is_shipped: true, changed_at, baseline, spec })
        };
        self.profiles.iter().filter_map(offered).collect()
    }

    /// A profile of a tenant.
    ///
    /// # Errors
    /// [`ControlError::Unknown`], also if the caller may not see it; the records.
    pub async fn load_profile(
        &self,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
    ) -> Result<OfferedProfile, ControlError> {
        let all = self.all_profiles(Some(tenant)).await?;
        let found = all
            .into_iter()
            .find(|profile| profile.spec.name == name.as_str() && may_load(caller, &profile.spec));
        found.ok_or_else(|| ControlError::Unknown(Subject::Profile(name.to_string())))
    }

    /// What running a profile of a tenant needs; `None` if there is no such profile.
    pub(crate) async fn scopes_of_profile(
        &self,
        tenant: &Name,
        name: &str,
    ) -> Result<Option<Vec<Scope>>, ControlError> {
        let all = self.all_profiles(Some(tenant)).await?;
        let found = all.into_iter().find(|profile| profile.spec.name == name);
        found.map(|profile| needed_scopes(&profile.spec)).transpose()
    }

    /// Stores a profile, if what is there is what `expected` names. Its name is that of the path.
    ///
    /// # Errors
    /// [`ControlError`]: the scope, the namespace, the profile, or the records.
    pub async fn put_load_profile(
        self: &Arc<Self>,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
        spec: &LoadProfileSpec,
        expected: Expected,
    ) -> Result<OfferedProfile, ControlError> {
        let spec = LoadProfileSpec { name: name.to_string(), ..spec.clone() };
        self.check_load_profile(caller, tenant, &spec)?;
        let (caller, path) = (caller.clone(), path_of(tenant, name));
        self.administer(async move |control| {
            control.check_load_profile(&caller, &path.tenant, &spec)?;
            let all = control.records.definitions(path.kind, Some(&path.tenant)).await?;
            let record = all.iter().find(|record| record.name == path.name);
            let present = record.and_then(Stored::read).unwrap_or_default();
            if let Some(present) = &present.spec {
                // One of another namespace is not this caller's to replace.
                let (tenant, namespace) = place_of(&present.namespace)?;
                caller.needs(Scope::within(Right::Load, &tenant, &namespace))?;
            } else {
                limits::check("load profiles of the tenant", all.len(), MAX_PROFILES)?;
            }
            if !expected.includes_present(present.spec.as_ref().map(load_profile_tag)) {
                return Err(ControlError::NotExpected("load profile"));
            }
            let stored = Stored { spec: Some(spec), baseline: present.baseline };
            control.write_definition(&caller, &path, &stored).await?;
            control.load_profile(&caller, &path.tenant, &path.name).await
        })
        .await
    }

    /// Deletes a stored profile, and the baseline of one of the service's directory.
    ///
    /// # Errors
    /// [`ControlError::Unknown`], also if the caller may not see it; the records.
    pub async fn delete_load_profile(
        self: &Arc<Self>,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
    ) -> Result<(), ControlError> {
        let (caller, path) = (caller.clone(), path_of(tenant, name));
        self.administer(async move |control| {
            control.load_profile(&caller, &path.tenant, &path.name).await?;
            control.remove_definition(&caller, &path).await
        })
        .await
    }

    /// Sets the run that later runs of a profile are compared with.
    ///
    /// # Errors
    /// [`ControlError::Unknown`] (the profile or the run), a run of another profile, the records.
    pub async fn set_load_baseline(
        self: &Arc<Self>,
        caller: &Caller,
        tenant: &Name,
        name: &Name,
        baseline: SetBaseline,
    ) -> Result<OfferedProfile, ControlError> {
        if let Some(run) = baseline.run {
            let run: LoadRun = self.load_run(caller, run).await?;
            let of = place_of(&run.profile.namespace).map(|(tenant, _)| tenant);
            if run.profile.name != name.as_str() || of.ok().as_ref() != Some(tenant) {
                return Err(InvalidInput::OtherProfile { run: run.id }.into());
            }
        }
        let (caller, path) = (caller.clone(), path_of(tenant, name));
        self.administer(async move |control| {
            control.load_profile(&caller, &path.tenant, &path.name).await?;
            let all = control.records.definitions(path.kind, Some(&path.tenant)).await?;
            let record = all.iter().find(|record| record.name == path.name);
            let present = record.and_then(Stored::read).unwrap_or_default();
            let stored = Stored { baseline: baseline.run, ..present };
            control.write_definition(&caller, &path, &stored).await?;
            control.load_profile(&caller, &path.tenant, &path.name).await
        })
        .await
    }

    /// Checks what can be checked without finding the keys.
    fn check_load_profile(
        &self,
        caller: &Caller,
        tenant: &Name,
        spec: &LoadProfileSpec,
    ) -> Result<(), ControlError> {
        let (of, namespace) = place_of(&spec.namespace)?;
        if of != *tenant {
            return Err(InvalidInput::OtherTenant(spec.namespace.clone()).into());
        }
        caller.needs(Scope::within(Right::Load, tenant, &namespace))?;
        let registered = self.registry.namespace(tenant, &namespace)?;
        let bytes = serde_json::to_vec(spec).map_or(0, |text| text.len());
        if bytes > MAX_PROFILE_BYTES {
            return Err(InvalidInput::PlanTooLarge { bytes, most: MAX_PROFILE_BYTES }.into());
        }
        spec.profile().map_err(ControlError::invalid)?;
        match spec.arrivals.recording {
            // It has keys itself.
            Some(_) if spec.keys.is_empty() => Ok(()),
            _ => check_sources(&registered, &spec.keys),
        }
    }
}
