//! Accounts and sessions.

use std::time::Duration;

use mostra_core::account::Session;
use sea_orm::sea_query::OnConflict;
use sea_orm::{ActiveValue::Set, ColumnTrait, EntityTrait, PaginatorTrait, QueryFilter};

use crate::entity::{account, session};
use crate::{Records, StoreError};

impl Records {
    /// Whether anybody has an account; if not, this is the first start.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn has_accounts(&self) -> Result<bool, StoreError> {
        Ok(account::Entity::find().count(&self.database).await? > 0)
    }

    /// An account's password hash.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn password_hash(&self, name: &str) -> Result<Option<String>, StoreError> {
        let found = account::Entity::find_by_id(name.to_owned()).one(&self.database).await?;
        Ok(found.map(|a| a.password_hash))
    }

    /// Makes an account; false if there is one of that name already.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn add_account(&self, name: &str, password_hash: &str) -> Result<bool, StoreError> {
        let model = account::ActiveModel {
            name: Set(name.to_owned()),
            password_hash: Set(password_hash.to_owned()),
        };
        let nothing = OnConflict::column(account::Column::Name).do_nothing().to_owned();
        let added = account::Entity::insert(model)
            .on_conflict(nothing)
            .exec_without_returning(&self.database)
            .await?;
        Ok(added > 0)
    }

    /// Records a session, and drops those that ended.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn add_session(&self, new: &Session, now: Duration) -> Result<(), StoreError> {
        let ended = session::Column::ExpiresMs.lt(millis(now));
        session::Entity::delete_many().filter(ended).exec(&self.database).await?;
        let model = session::ActiveModel {
            token_hash: Set(new.token_hash.to_vec()),
            account: Set(new.account.clone()),
            expires_ms: Set(millis(new.expires)),
        };
        session::Entity::insert(model).exec_without_returning(&self.database).await?;
        Ok(())
    }

    /// All sessions that have not ended.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn sessions(&self, now: Duration) -> Result<Vec<Session>, StoreError> {
        let live = session::Column::ExpiresMs.gt(millis(now));
        let rows = session::Entity::find().filter(live).all(&self.database).await?;
        let read = |row: session::Model| {
            Some(Session {
                token_hash: row.token_hash.try_into().ok()?,
                account: row.account,
                expires: Duration::from_millis(row.expires_ms.max(0) as u64),
            })
        };
        Ok(rows.into_iter().filter_map(read).collect())
    }

    /// Ends a session.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn remove_session(&self, token_hash: &[u8; 32]) -> Result<(), StoreError> {
        session::Entity::delete_by_id(token_hash.to_vec()).exec(&self.database).await?;
        Ok(())
    }
}

pub(crate) fn millis(at: Duration) -> i64 {
    i64::try_from(at.as_millis()).unwrap_or(i64::MAX)
}
