-- +goose Up
-- The causes got their names from a table; faults on record keep theirs up to date.
CREATE TEMPORARY TABLE renamed (old text PRIMARY KEY, new text) ON COMMIT DROP;
INSERT INTO renamed VALUES ('device-away', 'device-off'), ('device-moved', 'device-drifted'), ('lan-address-taken', 'address-taken'),
  ('wrong-protocol', 'other-protocol'), ('stranger', 'service-changed'), ('somebody-else', 'moved-unannounced'),
  ('agent-overdue', 'updater-overdue'), ('certificate', 'certificate-expiring');
UPDATE fault SET finding = jsonb_set(finding, '{cause}', to_jsonb(r.new)), key = r.new || substr(fault.key, length(r.old) + 1)
  FROM renamed r WHERE fault.finding->>'cause' = r.old AND NOT EXISTS (SELECT 1 FROM fault o WHERE o.site_id = fault.site_id
    AND o.closed_at IS NULL AND o.key = r.new || substr(fault.key, length(r.old) + 1));
UPDATE fault SET finding = finding || '{"sure": "likely", "actor": "on site"}' WHERE NOT finding ? 'sure';
ALTER TABLE fault ADD COLUMN judged_at timestamptz, ADD COLUMN judged_by text, ADD COLUMN was_right boolean,
  ADD COLUMN actual text, ADD COLUMN judge_note text;

-- +goose Down
ALTER TABLE fault DROP COLUMN judge_note, DROP COLUMN actual, DROP COLUMN was_right, DROP COLUMN judged_by, DROP COLUMN judged_at;
