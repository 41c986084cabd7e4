-- Remarks on a vessel
-- Starts empty; the harbour master fills it in by hand.
alter table vessel
  add column remarks text comment 'what the next watch should know';
