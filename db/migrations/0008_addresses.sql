ALTER TABLE "point_identity" ADD COLUMN "address" text;--> statement-breakpoint
UPDATE "point_identity" SET "address" = CASE "kind"
  WHEN 'binary' THEN 'BI' WHEN 'doubleBit' THEN 'DBI' WHEN 'output' THEN 'BO' WHEN 'analog' THEN 'AI'
  WHEN 'counter' THEN 'CT' WHEN 'setpoint' THEN 'AO' WHEN 'frozenCounter' THEN 'FC' ELSE 'OS' END || ' ' || "index";--> statement-breakpoint
ALTER TABLE "point_identity" ALTER COLUMN "address" SET NOT NULL;--> statement-breakpoint
DROP INDEX "point_identity_address";--> statement-breakpoint
CREATE UNIQUE INDEX "point_identity_address" ON "point_identity" USING btree ("device","address");--> statement-breakpoint
ALTER TABLE "point_identity" DROP COLUMN "index";--> statement-breakpoint
ALTER TABLE "command" ADD COLUMN "address" text;--> statement-breakpoint
UPDATE "command" SET "address" = CASE WHEN "counts" IS NULL THEN 'BO ' ELSE 'AO ' END || "index";--> statement-breakpoint
ALTER TABLE "command" ALTER COLUMN "address" SET NOT NULL;--> statement-breakpoint
ALTER TABLE "command" DROP COLUMN "index";--> statement-breakpoint
ALTER TABLE "draft_object" ADD COLUMN "sort" text DEFAULT '' NOT NULL;
