//! Accounts and sessions.

use mostra_core::Moment;

use mostra_core::account::Session;
use sea_orm::sea_query::{Expr, OnConflict};
use sea_orm::{
    ActiveValue::Set, ColumnTrait, ConnectionTrait, EntityTrait, PaginatorTrait, QueryFilter,
    QueryOrder, QuerySelect, TransactionTrait,
};

use crate::entity::{account, session, setting};
use crate::{Records, StoreError};

/// The setting that counts changes of sessions by other programs.
const SESSIONS: &str = "sessions_mark";

/// The setting that holds what an account prefers.
fn preferences(account: &str) -> String {
    format!("preferences:{account}")
}

impl Records {
    /// What an account prefers, as text of whoever set it.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn preferences(&self, account: &str) -> Result<Option<String>, StoreError> {
        self.setting(&preferences(account)).await
    }

    /// Sets what an account prefers; it goes with the account.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn set_preferences(&self, account: &str, text: &str) -> Result<(), StoreError> {
        self.set_setting(&preferences(account), text).await
    }

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

    /// The names of all accounts.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn accounts(&self) -> Result<Vec<String>, StoreError> {
        let all = account::Entity::find().order_by_asc(account::Column::Name);
        Ok(all.all(&self.database).await?.into_iter().map(|row| row.name).collect())
    }

    /// Removes an account with its sessions; false if there is none of that name, or no other.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn remove_account(&self, name: &str) -> Result<bool, StoreError> {
        let transaction = self.database.begin().await?;
        // Of two that remove each other at once, the second finds only itself.
        let all = account::Entity::find().lock_exclusive().all(&transaction).await?;
        if all.len() < 2 {
            return Ok(false);
        }
        end_sessions(&transaction, name, None).await?;
        setting::Entity::delete_by_id(preferences(name)).exec(&transaction).await?;
        let gone = account::Entity::delete_by_id(name.to_owned()).exec(&transaction).await?;
        transaction.commit().await?;
        Ok(gone.rows_affected > 0)
    }

    /// Sets a password and ends the account's sessions but for one; false if there is no account
    /// of that name.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn set_password(
        &self,
        name: &str,
        password_hash: &str,
        kept: Option<&[u8; 32]>,
    ) -> Result<bool, StoreError> {
        let transaction = self.database.begin().await?;
        let set = account::Entity::update_many()
            .col_expr(account::Column::PasswordHash, Expr::value(password_hash))
            .filter(account::Column::Name.eq(name))
            .exec(&transaction)
            .await?;
        end_sessions(&transaction, name, kept).await?;
        transaction.commit().await?;
        Ok(set.rows_affected > 0)
    }

    /// Ends all sessions of an account.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn remove_sessions_of(&self, name: &str) -> Result<(), StoreError> {
        end_sessions(&self.database, name, None).await
    }

    /// Notes that sessions were ended by another program than the service.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn sessions_changed(&self) -> Result<(), StoreError> {
        let before = self.sessions_mark().await?;
        self.set_setting(SESSIONS, &before.wrapping_add(1).to_string()).await
    }

    /// How often [`sessions_changed`](Self::sessions_changed) was called.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn sessions_mark(&self) -> Result<u32, StoreError> {
        Ok(self.setting(SESSIONS).await?.and_then(|text| text.parse().ok()).unwrap_or(0))
    }

    /// Records a session, and drops those that ended.
    ///
    /// # Errors
    /// [`StoreError`] when it was not saved.
    pub async fn add_session(&self, new: &Session, now: Moment) -> Result<(), StoreError> {
        let ended = session::Column::ExpiresMs.lt(millis(now));
        session::Entity::delete_many().filter(ended).exec(&self.database).await?;
        let model = session::ActiveModel {
            token_hash: Set(new.token_hash.to_vec()),
            account: Set(new.account.clone()),
            expires_ms: Set(millis(new.expires)),
            began_ms: Set(millis(new.began)),
            program: Set(new.program),
        };
        session::Entity::insert(model).exec_without_returning(&self.database).await?;
        Ok(())
    }

    /// All sessions that have not ended.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn sessions(&self, now: Moment) -> Result<Vec<Session>, StoreError> {
        let live = session::Column::ExpiresMs.gt(millis(now));
        let rows = session::Entity::find().filter(live).all(&self.database).await?;
        let read = |row: session::Model| {
            Some(Session {
                token_hash: row.token_hash.try_into().ok()?,
                account: row.account,
                began: Moment::from_millis(row.began_ms.max(0) as u64),
                expires: Moment::from_millis(row.expires_ms.max(0) as u64),
                program: row.program,
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

async fn end_sessions(
    connection: &impl ConnectionTrait,
    name: &str,
    kept: Option<&[u8; 32]>,
) -> Result<(), StoreError> {
    let mut its = session::Entity::delete_many().filter(session::Column::Account.eq(name));
    if let Some(kept) = kept {
        its = its.filter(session::Column::TokenHash.ne(kept.to_vec()));
    }
    its.exec(connection).await?;
    Ok(())
}

pub(crate) fn millis(at: Moment) -> i64 {
    i64::try_from(at.as_millis()).unwrap_or(i64::MAX)
}
