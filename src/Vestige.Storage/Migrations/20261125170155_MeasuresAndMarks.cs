using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Vestige.Storage.Migrations
{
    /// <inheritdoc />
    public partial class MeasuresAndMarks : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<string>(
                name: "Until",
                table: "Crossings",
                type: "TEXT",
                nullable: true);

            migrationBuilder.CreateTable(
                name: "Measures",
                columns: table => new
                {
                    Crossing = table.Column<string>(type: "TEXT", nullable: false),
                    Step = table.Column<int>(type: "INTEGER", nullable: false),
                    Start = table.Column<long>(type: "INTEGER", nullable: false),
                    Slots = table.Column<byte[]>(type: "BLOB", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Measures", x => new { x.Crossing, x.Step, x.Start });
                });

            migrationBuilder.CreateIndex(
                name: "IX_Events_AtTicks",
                table: "Events",
                column: "AtTicks");

            migrationBuilder.CreateIndex(
                name: "IX_Measures_Step_Start",
                table: "Measures",
                columns: new[] { "Step", "Start" });
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "Measures");

            migrationBuilder.DropIndex(
                name: "IX_Events_AtTicks",
                table: "Events");

            migrationBuilder.DropColumn(
                name: "Until",
                table: "Crossings");
        }
    }
}
