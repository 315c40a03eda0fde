CREATE TABLE "secret" (
	"id" uuid PRIMARY KEY NOT NULL,
	"sealed" "bytea" NOT NULL,
	"kept" boolean NOT NULL,
	"made" timestamp with time zone NOT NULL
);
--> statement-breakpoint
ALTER TABLE "revision" ADD COLUMN "sealed" boolean DEFAULT false NOT NULL;--> statement-breakpoint
DELETE FROM "probe";--> statement-breakpoint
UPDATE "profile" SET "document" = "document" #- '{settings,password}' WHERE "document" #> '{settings,password}' IS NOT NULL;
