//! What a person notes of a device, when it first asked, and what a decision replaced.

use sea_orm_migration::prelude::*;

pub(super) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &str {
        "m0010_found"
    }
}

// Until now whoever connected had a standing.
const UP: &str = r#"
alter table device
    add column described_name text,
    add column kind text,
    add column room text,
    add column note text,
    add column asked_ms bigint,
    add column by_doorway_ms bigint;
update device set asked_ms = first_seen_ms;
update device set by_doorway_ms = first_seen_ms where standing = 'admitted' and not decided;
alter table decision add column why text, add column before jsonb;
"#;

const DOWN: &str = r#"
alter table decision drop column why, drop column before;
alter table device drop column described_name, drop column kind, drop column room,
    drop column note, drop column asked_ms, drop column by_doorway_ms;
"#;

#[async_trait::async_trait]
impl MigrationTrait for Migration {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(UP).await?;
        Ok(())
    }

    async fn down(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(DOWN).await?;
        Ok(())
    }
}
