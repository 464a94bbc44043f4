//! Codes in place of sentences for why something is left out.

use sea_orm_migration::prelude::*;

pub(super) struct Migration;

impl MigrationName for Migration {
    fn name(&self) -> &str {
        "m0009_reasons"
    }
}

const UP: &str = r#"
update left_out set reason = case
    when reason = 'not a film, sound or picture' then '"not-media"'
    when reason = 'Ogg without Vorbis or Opus cannot be read' then '"other-ogg"'
    when reason like 'subtitles;%' then '"captions"'
    when reason like 'a cover;%' then '"cover"'
    when reason = 'a playlist' then '"playlist"'
    when reason like 'it is still being written%' then '"growing"'
    when reason = 'a link that leads nowhere now' then '"dead-link"'
    when reason = 'a link to what this folder lists already' then '"listed-already"'
    when reason like 'a link into the system''s own%' then '"forbidden"'
    when reason = 'the service''s own directory' then '"own"'
    when reason = 'its drive or network share does not answer' then '"no-answer"'
    when reason like 'another drive than before%' then '"other-drive"'
    when reason like 'more than % folders deep%' then '"too-deep"'
    when reason ~ '^(video|music|picture): the folder is not set' then
        json_build_object('other-kind', split_part(reason, ':', 1))::text
    when reason = 'the file is empty' then '"empty"'
    when reason like 'damaged: %' then json_build_object('damaged', substr(reason, 10))::text
    when reason = 'cannot be read: no permission for the service''s user' then
        '{"unreadable":"no-permission"}'
    when reason = 'cannot be read: it has gone' then '{"unreadable":"gone"}'
    when reason like 'cannot be read: %' then
        json_build_object('unreadable', json_build_object('system', substr(reason, 17)))::text
    when reason like 'its name is not valid text%' then '"name"'
    when reason = 'a special file' then '"special"'
    when reason = 'playlist: a playlist of more than 4 MiB' then '"playlist-too-large"'
    when reason = 'playlist: a streaming manifest, not a playlist' then '"streaming-manifest"'
    when reason like 'playlist: damaged: %' then
        json_build_object('playlist-damaged', substr(reason, 20))::text
    when reason ~ '^playlist: [0-9]{1,9} of its entries are not published$' then
        json_build_object('playlist-entries', json_build_object(
            'missing', substring(reason from '[0-9]+')::int, 'hosts', '[]'::json))::text
    else json_build_object('words', reason)::text
    end;
"#;

#[async_trait::async_trait]
impl MigrationTrait for Migration {
    async fn up(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        manager.get_connection().execute_unprepared(UP).await?;
        Ok(())
    }

    async fn down(&self, manager: &SchemaManager) -> Result<(), DbErr> {
        // The next scan writes them in words again.
        manager.get_connection().execute_unprepared("delete from left_out").await?;
        Ok(())
    }
}
