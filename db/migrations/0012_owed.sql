CREATE TABLE "outbound_identity" (
	"id" serial PRIMARY KEY NOT NULL,
	"code" text NOT NULL,
	CONSTRAINT "outbound_identity_code_unique" UNIQUE("code")
);
--> statement-breakpoint
CREATE TABLE "owed" (
	"id" bigserial PRIMARY KEY NOT NULL,
	"outbound" integer NOT NULL,
	"queue" text NOT NULL,
	"first" bigint NOT NULL,
	"last" bigint NOT NULL,
	"octets" "bytea" NOT NULL
);
--> statement-breakpoint
CREATE TABLE "owed_position" (
	"outbound" integer NOT NULL,
	"queue" text NOT NULL,
	"position" bigint NOT NULL,
	"beyond" "bytea" NOT NULL,
	CONSTRAINT "owed_position_outbound_queue_pk" PRIMARY KEY("outbound","queue")
);
--> statement-breakpoint
INSERT INTO "outbound_identity" ("code")
SELECT "outbound" FROM "outbound_keep"
UNION
SELECT item->>'code' FROM "revision", jsonb_array_elements("document"->'outbounds') AS item
WHERE "revision"."id" = (SELECT max("id") FROM "revision") AND jsonb_typeof("document"->'outbounds') = 'array';
--> statement-breakpoint
UPDATE "outbound_keep" SET "outbound" = "outbound_identity"."id"::text FROM "outbound_identity" WHERE "code" = "outbound";
--> statement-breakpoint
ALTER TABLE "outbound_keep" ALTER COLUMN "outbound" SET DATA TYPE integer USING "outbound"::integer;--> statement-breakpoint
ALTER TABLE "revision" ADD COLUMN "outbound_ids" jsonb;--> statement-breakpoint
CREATE INDEX "owed_queue" ON "owed" USING btree ("outbound","queue","last");--> statement-breakpoint
-- What sessions keep is written with every message: whole rows, neither compressed nor apart.
ALTER TABLE "replay_guard" ALTER COLUMN "keys" SET STORAGE EXTERNAL;--> statement-breakpoint
ALTER TABLE "replay_guard" SET (toast_tuple_target = 8160, fillfactor = 50);--> statement-breakpoint
ALTER TABLE "owed" ALTER COLUMN "octets" SET STORAGE EXTERNAL;--> statement-breakpoint
ALTER TABLE "owed" SET (toast_tuple_target = 8160, autovacuum_vacuum_scale_factor = 0.02);
