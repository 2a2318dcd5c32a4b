//! Moving an object, which a store has no word for: it is copied, the copy is looked at, and the object is
//! deleted on condition that it is the one that was copied.

use object_store::path::Path;
use object_store::{ObjectMeta, ObjectStore, ObjectStoreExt};

use super::fetch::WantedObject;
use super::signed::SignedRequests;
use super::trouble::trouble_of;
use crate::error::RemoteTrouble;

/// A tag that no object has.
const NO_TAG: &str = "\"00000000000000000000000000000000-none\"";

/// Moves an object to another key; `false` if that is taken.
///
/// # Errors
///
/// It is another version by now, or the store does not delete on condition.
pub async fn copy(
    store: &dyn ObjectStore,
    wanted: &WantedObject<'_>,
    to: &Path,
) -> Result<Option<ObjectMeta>, RemoteTrouble> {
    let failed = |error: object_store::Error| trouble_of(&error, wanted.address);
    if !wanted.is_there(store).await? {
        return Err(RemoteTrouble::Changed);
    }
    match head(store, to).await.map_err(failed)? {
        // What an attempt that was broken off has copied is taken for the copy.
        Some(there) if is_copy(&there, wanted) => return Ok(Some(there)),
        Some(_) => return Ok(None),
        None => {}
    }
    store.copy(&wanted.key, to).await.map_err(failed)?;
    let copied = head(store, to).await.map_err(failed)?.filter(|copied| copied.size == wanted.arrival.bytes);
    let is_same = wanted.is_there(store).await;
    match (copied, is_same) {
        (Some(copied), Ok(true)) => Ok(Some(copied)),
        // Another version came while it was copied: the copy may be of either.
        (_, is_same) => {
            store.delete(to).await.map_err(failed)?;
            is_same.and(Err(RemoteTrouble::Changed))
        }
    }
}

/// Whether an object is a copy of another: of the same bytes, as its tag tells where it was sent in one go.
fn is_copy(there: &ObjectMeta, wanted: &WantedObject<'_>) -> bool {
    there.size == wanted.arrival.bytes && there.e_tag.is_some() && there.e_tag == wanted.arrival.token
}

async fn head(store: &dyn ObjectStore, key: &Path) -> Result<Option<ObjectMeta>, object_store::Error> {
    match store.head(key).await {
        Ok(meta) => Ok(Some(meta)),
        Err(object_store::Error::NotFound { .. }) => Ok(None),
        Err(error) => Err(error),
    }
}

/// Whether the store deletes on condition: it is asked to delete the copy if it has a tag that it has not.
///
/// # Errors
///
/// It deletes whatever the condition says: then the copy is gone, and the object still there.
pub fn deletes_on_condition(requests: &SignedRequests<'_>, copy: &Path) -> Result<(), RemoteTrouble> {
    match requests.delete_if(copy, NO_TAG) {
        Err(RemoteTrouble::Changed) => Ok(()),
        Ok(()) | Err(RemoteTrouble::Gone) => Err(RemoteTrouble::CannotMove(
            "the store deletes an object whatever version of it there is, so that one sent meanwhile could be lost"
                .to_owned(),
        )),
        Err(trouble) => Err(trouble),
    }
}
