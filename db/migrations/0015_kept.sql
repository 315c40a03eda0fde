CREATE TABLE "known_device" (
	"token_hash" text PRIMARY KEY NOT NULL,
	"account_id" integer NOT NULL,
	"seen" timestamp with time zone NOT NULL
);
--> statement-breakpoint
CREATE TABLE "security_keeping" (
	"one" boolean PRIMARY KEY DEFAULT true NOT NULL,
	"days" integer NOT NULL,
	"lines" integer NOT NULL
);
--> statement-breakpoint
ALTER TABLE "account" ADD COLUMN "must_change" boolean DEFAULT false NOT NULL;--> statement-breakpoint
ALTER TABLE "known_device" ADD CONSTRAINT "known_device_account_id_account_id_fk" FOREIGN KEY ("account_id") REFERENCES "public"."account"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
INSERT INTO "security_keeping" ("days", "lines") VALUES (400, 1000000);--> statement-breakpoint
CREATE FUNCTION "is_owner"("table_name" name) RETURNS boolean LANGUAGE sql STABLE AS $$
  SELECT tableowner = current_user FROM pg_catalog.pg_tables WHERE schemaname = 'public' AND tablename = table_name
$$;
--> statement-breakpoint
CREATE FUNCTION "only_owner"() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF NOT "is_owner"(TG_TABLE_NAME) THEN
    RAISE EXCEPTION 'only the owner of the tables sets how long the security log is kept' USING ERRCODE = '42501';
  END IF;
  RETURN NULL;
END $$;
--> statement-breakpoint
CREATE TRIGGER "security_keeping_only_owner" BEFORE INSERT OR UPDATE OR DELETE OR TRUNCATE ON "security_keeping"
  FOR EACH STATEMENT EXECUTE FUNCTION "only_owner"();--> statement-breakpoint
CREATE OR REPLACE FUNCTION "only_added"() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF TG_OP = 'DELETE' AND "is_owner"('security_log') AND current_setting('halvix.ends_old_lines', true) = 'on' THEN
    RETURN NULL;
  END IF;
  RAISE EXCEPTION 'the security log is only added to' USING ERRCODE = '42501';
END $$;
--> statement-breakpoint
CREATE FUNCTION "end_old_security_lines"() RETURNS bigint LANGUAGE plpgsql SECURITY DEFINER
  SET search_path = public, pg_temp AS $$
DECLARE
  ended bigint;
BEGIN
  PERFORM set_config('halvix.ends_old_lines', 'on', true);
  DELETE FROM security_log USING security_keeping
    WHERE time < now() - make_interval(days => days)
      OR id <= (SELECT id FROM security_log ORDER BY id DESC OFFSET (SELECT lines FROM security_keeping) LIMIT 1);
  GET DIAGNOSTICS ended = ROW_COUNT;
  PERFORM set_config('halvix.ends_old_lines', 'off', true);
  RETURN ended;
END $$;
--> statement-breakpoint
REVOKE ALL ON FUNCTION "end_old_security_lines"() FROM PUBLIC;--> statement-breakpoint
CREATE FUNCTION "never_changed"() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  RAISE EXCEPTION 'what is in % is not changed any more', TG_TABLE_NAME USING ERRCODE = '42501';
END $$;
--> statement-breakpoint
CREATE TRIGGER "revision_never_changed" BEFORE UPDATE OR DELETE ON "revision"
  FOR EACH STATEMENT EXECUTE FUNCTION "never_changed"();--> statement-breakpoint
CREATE TRIGGER "command_never_deleted" BEFORE DELETE ON "command"
  FOR EACH STATEMENT EXECUTE FUNCTION "never_changed"();--> statement-breakpoint
CREATE FUNCTION "command_progress"() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  IF (OLD.id, OLD.number, OLD.point_id, OLD.device, OLD.address, OLD.operation, OLD.counts, OLD.text, OLD.mode, OLD.on_ms,
      OLD.off_ms, OLD.count, OLD.requested_by, OLD.outbound, OLD.requested, OLD.expires)
    IS DISTINCT FROM (NEW.id, NEW.number, NEW.point_id, NEW.device, NEW.address, NEW.operation, NEW.counts, NEW.text,
      NEW.mode, NEW.on_ms, NEW.off_ms, NEW.count, NEW.requested_by, NEW.outbound, NEW.requested, NEW.expires) THEN
    RAISE EXCEPTION 'what was ordered by command % is not changed any more', OLD.id USING ERRCODE = '42501';
  END IF;
  IF OLD.ended IS NOT NULL AND OLD IS DISTINCT FROM NEW THEN
    RAISE EXCEPTION 'what came of command % is not changed any more', OLD.id USING ERRCODE = '42501';
  END IF;
  RETURN NEW;
END $$;
--> statement-breakpoint
CREATE TRIGGER "command_progress" BEFORE UPDATE ON "command" FOR EACH ROW EXECUTE FUNCTION "command_progress"();
