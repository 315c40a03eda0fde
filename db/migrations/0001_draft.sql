CREATE TABLE "draft_object" (
	"id" serial PRIMARY KEY NOT NULL,
	"kind" text NOT NULL,
	"parent" text NOT NULL,
	"document" jsonb,
	"version" bigint NOT NULL,
	"author" text NOT NULL,
	"changed" timestamp with time zone NOT NULL
);
--> statement-breakpoint
CREATE TABLE "probe" (
	"id" uuid PRIMARY KEY NOT NULL,
	"request" jsonb NOT NULL,
	"state" text NOT NULL,
	"result" jsonb NOT NULL,
	"requested_by" text NOT NULL,
	"requested" timestamp with time zone NOT NULL,
	"engine" text,
	"updated" timestamp with time zone NOT NULL
);
--> statement-breakpoint
CREATE TABLE "profile" (
	"code" text PRIMARY KEY NOT NULL,
	"document" jsonb NOT NULL,
	"author" text NOT NULL,
	"changed" timestamp with time zone NOT NULL
);
--> statement-breakpoint
ALTER TABLE "latest" ADD COLUMN "limit_level" smallint;--> statement-breakpoint
ALTER TABLE "revision" ADD COLUMN "draft_version" bigint;--> statement-breakpoint
CREATE INDEX "draft_object_kind" ON "draft_object" USING btree ("kind","parent");--> statement-breakpoint
CREATE INDEX "draft_object_version" ON "draft_object" USING btree ("version");--> statement-breakpoint
CREATE SEQUENCE "draft_version";
