CREATE TABLE "security_log" (
	"id" bigserial PRIMARY KEY NOT NULL,
	"time" timestamp with time zone NOT NULL,
	"who" text NOT NULL,
	"what" text NOT NULL,
	"words" text NOT NULL,
	"address" text NOT NULL
);
--> statement-breakpoint
ALTER TABLE "account" ADD COLUMN "disabled" boolean DEFAULT false NOT NULL;--> statement-breakpoint
ALTER TABLE "web_session" ADD COLUMN "label" text DEFAULT '' NOT NULL;--> statement-breakpoint
ALTER TABLE "web_session" ADD COLUMN "seen" timestamp with time zone;--> statement-breakpoint
ALTER TABLE "web_session" ADD COLUMN "address" text DEFAULT '' NOT NULL;--> statement-breakpoint
ALTER TABLE "web_session" ADD COLUMN "agent" text DEFAULT '' NOT NULL;--> statement-breakpoint
CREATE INDEX "security_log_time" ON "security_log" USING btree ("time");--> statement-breakpoint
CREATE FUNCTION "only_added"() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
  RAISE EXCEPTION 'the security log is only added to' USING ERRCODE = '42501';
END $$;
--> statement-breakpoint
CREATE TRIGGER "security_log_only_added" BEFORE UPDATE OR DELETE OR TRUNCATE ON "security_log"
  FOR EACH STATEMENT EXECUTE FUNCTION "only_added"();
