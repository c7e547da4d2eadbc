//! The load profiles that ship with the demo, from demo/profiles.

use verax_api::LoadProfileSpec;

use crate::error::DemoError;

const FILES: [(&str, &str); 6] = [
    ("morning-rush.toml", include_str!("../profiles/morning-rush.toml")),
    ("storm-warning.toml", include_str!("../profiles/storm-warning.toml")),
    ("deployment.toml", include_str!("../profiles/deployment.toml")),
    ("more-instances.toml", include_str!("../profiles/more-instances.toml")),
    ("tide-check.toml", include_str!("../profiles/tide-check.toml")),
    ("quick-look.toml", include_str!("../profiles/quick-look.toml")),
];

/// All of them.
///
/// # Errors
/// [`DemoError::Profile`] names the file at fault.
pub fn shipped() -> Result<Vec<LoadProfileSpec>, DemoError> {
    let read = |(name, text): (&'static str, &str)| {
        toml::from_str(text).map_err(|e| DemoError::Profile { name, reason: e.to_string() })
    };
    FILES.into_iter().map(read).collect()
}

/// Writes all of them to a directory, from which a service reads them.
///
/// # Errors
/// The system's error.
pub fn write(directory: &std::path::Path) -> std::io::Result<()> {
    std::fs::create_dir_all(directory)?;
    FILES.iter().try_for_each(|(name, text)| std::fs::write(directory.join(name), text))
}

#[cfg(test)]
mod tests {
    #[test]
    fn shipped_profiles_can_be_run() {
        let shipped = super::shipped().unwrap();
        for (profile, (file, _)) in shipped.iter().zip(super::FILES) {
            assert_eq!(format!("{}.toml", profile.name), file);
            profile.profile().unwrap_or_else(|e| panic!("{file}: {e}"));
        }
    }
}
