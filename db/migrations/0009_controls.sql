ALTER TABLE "command" DROP COLUMN "code";
