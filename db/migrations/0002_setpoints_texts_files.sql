CREATE TABLE "file_transfer" (
	"id" uuid PRIMARY KEY NOT NULL,
	"device" text NOT NULL,
	"what" text NOT NULL,
	"name" text NOT NULL,
	"state" text NOT NULL,
	"words" text,
	"octets" integer NOT NULL,
	"entries" jsonb,
	"content" "bytea",
	"requested_by" text NOT NULL,
	"requested" timestamp with time zone NOT NULL,
	"engine" text,
	"ended" timestamp with time zone
);
--> statement-breakpoint
ALTER TABLE "command" ADD COLUMN "counts" double precision;--> statement-breakpoint
ALTER TABLE "latest" ADD COLUMN "text" text;--> statement-breakpoint
ALTER TABLE "reading" ADD COLUMN "text" text;--> statement-breakpoint
CREATE INDEX "file_transfer_device" ON "file_transfer" USING btree ("device","requested");