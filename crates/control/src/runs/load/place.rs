//! The namespace of a load profile.

use verax_core::Name;

use crate::error::ControlError;
use crate::invalid::InvalidInput;

/// `tenant/namespace`, read.
pub(in crate::runs) fn place_of(path: &str) -> Result<(Name, Name), ControlError> {
    let invalid = || InvalidInput::Path(path.to_owned());
    let (tenant, namespace) = path.split_once('/').ok_or_else(invalid)?;
    let read = |text| Name::new(text).map_err(ControlError::invalid);
    Ok((read(tenant)?, read(namespace)?))
}
