using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Vestige.Storage.Migrations
{
    /// <inheritdoc />
    public partial class DefinitionVersions : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "DefinitionVersions",
                columns: table => new
                {
                    Crossing = table.Column<string>(type: "TEXT", nullable: false),
                    Version = table.Column<long>(type: "INTEGER", nullable: false),
                    Definition = table.Column<string>(type: "TEXT", nullable: false),
                    By = table.Column<string>(type: "TEXT", nullable: false),
                    AtTicks = table.Column<long>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_DefinitionVersions", x => new { x.Crossing, x.Version });
                });

            // What is there already is the first version that is known of each crossing; its time to the second.
            migrationBuilder.Sql(
                """
                INSERT INTO "DefinitionVersions" ("Crossing", "Version", "Definition", "By", "AtTicks")
                SELECT "Name", "Version", "Definition", "By", CAST(strftime('%s', "Since") AS INTEGER) * 10000000 + 621355968000000000 FROM "Crossings"
                """);
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "DefinitionVersions");
        }
    }
}
