CREATE TABLE "account" (
	"id" serial PRIMARY KEY NOT NULL,
	"name" text NOT NULL,
	"role" text NOT NULL,
	"password_hash" text NOT NULL,
	"created" timestamp with time zone NOT NULL,
	CONSTRAINT "account_name_unique" UNIQUE("name")
);
--> statement-breakpoint
CREATE TABLE "command" (
	"id" uuid PRIMARY KEY NOT NULL,
	"point_id" integer NOT NULL,
	"device" text NOT NULL,
	"index" integer NOT NULL,
	"operation" text NOT NULL,
	"code" smallint NOT NULL,
	"mode" text NOT NULL,
	"on_ms" bigint NOT NULL,
	"off_ms" bigint NOT NULL,
	"count" smallint NOT NULL,
	"requested_by" text NOT NULL,
	"outbound" text,
	"state" text NOT NULL,
	"engine" text,
	"status" integer,
	"words" text,
	"requested" timestamp with time zone NOT NULL,
	"expires" timestamp with time zone NOT NULL,
	"claimed" timestamp with time zone,
	"sent" timestamp with time zone,
	"selected" timestamp with time zone,
	"operated" timestamp with time zone,
	"confirmed" timestamp with time zone,
	"ended" timestamp with time zone
);
--> statement-breakpoint
CREATE TABLE "hop_state" (
	"kind" text NOT NULL,
	"code" text NOT NULL,
	"state" jsonb NOT NULL,
	"updated" timestamp with time zone NOT NULL,
	CONSTRAINT "hop_state_kind_code_pk" PRIMARY KEY("kind","code")
);
--> statement-breakpoint
CREATE TABLE "ingest_mark" (
	"writer" text PRIMARY KEY NOT NULL,
	"batch" text NOT NULL
);
--> statement-breakpoint
CREATE TABLE "journal" (
	"id" bigserial PRIMARY KEY NOT NULL,
	"time" timestamp with time zone NOT NULL,
	"subject" text NOT NULL,
	"tone" text NOT NULL,
	"words" text NOT NULL
);
--> statement-breakpoint
CREATE TABLE "latest" (
	"point_id" integer PRIMARY KEY NOT NULL,
	"raw" double precision NOT NULL,
	"value" double precision NOT NULL,
	"quality" integer NOT NULL,
	"time" timestamp with time zone NOT NULL,
	"time_source" smallint NOT NULL,
	"received" timestamp with time zone NOT NULL,
	"cause" smallint NOT NULL
);
--> statement-breakpoint
CREATE TABLE "point_identity" (
	"id" serial PRIMARY KEY NOT NULL,
	"device" text NOT NULL,
	"kind" text NOT NULL,
	"index" integer NOT NULL
);
--> statement-breakpoint
CREATE TABLE "reading" (
	"point_id" integer NOT NULL,
	"time" timestamp with time zone NOT NULL,
	"received" timestamp with time zone NOT NULL,
	"raw" double precision NOT NULL,
	"value" double precision NOT NULL,
	"quality" integer NOT NULL,
	"time_source" smallint NOT NULL,
	"cause" smallint NOT NULL
) PARTITION BY RANGE ("time");
--> statement-breakpoint
-- Readings whose time lies on a day without a partition of its own: a wrong device clock, a long backlog.
CREATE TABLE "reading_other_days" PARTITION OF "reading" DEFAULT;
--> statement-breakpoint
CREATE TABLE "replay_guard" (
	"device" text PRIMARY KEY NOT NULL,
	"keys" "bytea" NOT NULL
);
--> statement-breakpoint
CREATE TABLE "revision" (
	"id" serial PRIMARY KEY NOT NULL,
	"document" jsonb NOT NULL,
	"author" text NOT NULL,
	"note" text NOT NULL,
	"applied" timestamp with time zone NOT NULL
);
--> statement-breakpoint
CREATE TABLE "trail" (
	"point_id" integer PRIMARY KEY NOT NULL,
	"document" jsonb NOT NULL,
	"updated" timestamp with time zone NOT NULL
);
--> statement-breakpoint
CREATE TABLE "web_session" (
	"token_hash" text PRIMARY KEY NOT NULL,
	"account_id" integer NOT NULL,
	"created" timestamp with time zone NOT NULL,
	"expires" timestamp with time zone NOT NULL
);
--> statement-breakpoint
ALTER TABLE "web_session" ADD CONSTRAINT "web_session_account_id_account_id_fk" FOREIGN KEY ("account_id") REFERENCES "public"."account"("id") ON DELETE cascade ON UPDATE no action;--> statement-breakpoint
CREATE INDEX "command_state" ON "command" USING btree ("state");--> statement-breakpoint
CREATE INDEX "command_requested" ON "command" USING btree ("requested");--> statement-breakpoint
CREATE INDEX "journal_time" ON "journal" USING btree ("time");--> statement-breakpoint
CREATE UNIQUE INDEX "point_identity_address" ON "point_identity" USING btree ("device","kind","index");--> statement-breakpoint
CREATE INDEX "reading_point_time" ON "reading" USING btree ("point_id","time");