using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Vestige.Storage.Migrations
{
    /// <inheritdoc />
    public partial class DecidedChanges : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "Decided",
                columns: table => new
                {
                    Number = table.Column<long>(type: "INTEGER", nullable: false)
                        .Annotation("Sqlite:Autoincrement", true),
                    Crossing = table.Column<string>(type: "TEXT", nullable: false),
                    Table = table.Column<string>(type: "TEXT", nullable: false),
                    AtTicks = table.Column<long>(type: "INTEGER", nullable: false),
                    Sealed = table.Column<byte[]>(type: "BLOB", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Decided", x => x.Number);
                });

            migrationBuilder.CreateIndex(
                name: "IX_Decided_AtTicks",
                table: "Decided",
                column: "AtTicks");

            migrationBuilder.CreateIndex(
                name: "IX_Decided_Crossing_Number",
                table: "Decided",
                columns: new[] { "Crossing", "Number" });
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "Decided");
        }
    }
}
