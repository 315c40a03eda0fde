ALTER TABLE "hop_state" DROP CONSTRAINT "hop_state_kind_code_pk";--> statement-breakpoint
ALTER TABLE "hop_state" ADD COLUMN "engine" text DEFAULT '' NOT NULL;--> statement-breakpoint
ALTER TABLE "hop_state" ADD CONSTRAINT "hop_state_engine_kind_code_pk" PRIMARY KEY("engine","kind","code");--> statement-breakpoint
ALTER TABLE "ingest_mark" DROP CONSTRAINT "ingest_mark_pkey";--> statement-breakpoint
ALTER TABLE "ingest_mark" ADD COLUMN "share" text DEFAULT '*' NOT NULL;--> statement-breakpoint
ALTER TABLE "ingest_mark" ADD CONSTRAINT "ingest_mark_share_writer_pk" PRIMARY KEY("share","writer");--> statement-breakpoint
-- One engine held all links so far.
ALTER TABLE "lease" ADD COLUMN "share" text DEFAULT '*' NOT NULL;--> statement-breakpoint
ALTER TABLE "lease" ALTER COLUMN "share" DROP DEFAULT;--> statement-breakpoint
ALTER TABLE "lease" DROP COLUMN "id";--> statement-breakpoint
ALTER TABLE "lease" ADD PRIMARY KEY ("share");--> statement-breakpoint
ALTER TABLE "replay_guard" ADD COLUMN "link" text DEFAULT '' NOT NULL;--> statement-breakpoint
UPDATE "replay_guard" SET "link" = coalesce("item"->>'link', '')
FROM "revision", jsonb_array_elements("document"->'devices') AS "item"
WHERE "revision"."id" = (SELECT max("id") FROM "revision") AND jsonb_typeof("document"->'devices') = 'array'
  AND "item"->>'code' = "replay_guard"."device";
