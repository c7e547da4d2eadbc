//! A snapshot of the records that serving needs, kept in a file so that Verax can start while
//! MariaDB is away.

use std::fs::{self, File};
use std::io::{self, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use serde::{Deserialize, Serialize};

use crate::model::{NamespaceRecord, OriginRecord, TenantRecord, TokenRecord, Topology};

/// What serving needs: who may do what, where. It has no secrets: only hashes of tokens and names
/// of credentials.
///
/// A snapshot is never written back: MariaDB takes precedence as soon as it responds.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct RecordsSnapshot {
    /// The records' revision at that time.
    pub revision: u64,
    /// All tenants.
    pub tenants: Vec<TenantRecord>,
    /// All origins.
    pub origins: Vec<OriginRecord>,
    /// All namespaces.
    pub namespaces: Vec<NamespaceRecord>,
    /// All tokens.
    pub tokens: Vec<TokenRecord>,
    /// The nodes, and which of them owned the share.
    #[serde(default)]
    pub topology: Topology,
}

impl RecordsSnapshot {
    /// Reads a file of [`write`](Self::write).
    ///
    /// # Errors
    /// The system's error, or that it is no such file.
    pub fn read(path: &Path) -> io::Result<Self> {
        Ok(serde_json::from_slice(&fs::read(path)?)?)
    }

    /// Writes it atomically to a file that only its owner can read.
    ///
    /// # Errors
    /// The system's error.
    pub fn write(&self, path: &Path) -> io::Result<()> {
        let new = path.with_extension("new");
        let mut file =
            File::options().write(true).create(true).truncate(true).mode(0o600).open(&new)?;
        file.write_all(&serde_json::to_vec(self)?)?;
        file.sync_all()?;
        fs::rename(&new, path)
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use verax_core::{
        KeyPattern, Name, NamespaceId, NamespacePolicy, OriginBinding, OriginSettings, Timestamp,
    };

    use super::*;
    use crate::model::NodeId;

    #[test]
    fn a_snapshot_round_trips() {
        let (name, at) = (|text| Name::new(text).unwrap(), Timestamp::from_millis(1));
        let policy = NamespacePolicy {
            negative_max_age: Duration::from_millis(1_500),
            origin: Some(OriginBinding {
                origin: name("gauges"),
                key_pattern: KeyPattern::parse("tide/{gauge}").unwrap(),
            }),
            ..NamespacePolicy::default()
        };
        let origin = |id, settings| {
            let (tenant, name) = (name("tideline"), Name::new(format!("o{id}")).unwrap());
            OriginRecord { id, tenant, name, settings, created_at: at }
        };
        let snapshot = RecordsSnapshot {
            revision: 7,
            tenants: vec![TenantRecord {
                id: 1,
                name: name("tideline"),
                created_at: at,
                quota: verax_core::TenantQuota::default(),
            }],
            origins: vec![
                origin(1, OriginSettings::http("http://h/{gauge}")),
                origin(2, OriginSettings::sql("mysql://a@h/b", "SELECT 1")),
            ],
            namespaces: vec![NamespaceRecord {
                id: NamespaceId(3),
                tenant: name("tideline"),
                name: name("tables"),
                policy,
                created_at: at,
            }],
            tokens: vec![TokenRecord {
                id: 4,
                hash: [9; 32],
                scopes: "admin".into(),
                note: String::new(),
                created_at: at,
                revoked_at: Some(at),
                expires_at: None,
                last_used_at: Some(at),
            }],
            topology: Topology {
                revision: 2,
                owner: Some(NodeId::random()),
                ..Topology::default()
            },
        };
        let place = tempfile::tempdir().unwrap();
        let path = place.path().join("records.snapshot");
        snapshot.write(&path).unwrap();
        snapshot.write(&path).unwrap();
        assert_eq!(RecordsSnapshot::read(&path).unwrap(), snapshot);
        fs::write(&path, "{").unwrap();
        assert!(RecordsSnapshot::read(&path).is_err());
    }
}
