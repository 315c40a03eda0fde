CREATE TABLE "outbound_keep" (
	"id" bigserial PRIMARY KEY NOT NULL,
	"outbound" text NOT NULL,
	"octets" "bytea" NOT NULL
);
--> statement-breakpoint
CREATE INDEX "outbound_keep_outbound" ON "outbound_keep" USING btree ("outbound","id");