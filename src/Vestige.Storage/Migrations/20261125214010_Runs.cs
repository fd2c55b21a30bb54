using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Vestige.Storage.Migrations
{
    /// <inheritdoc />
    public partial class Runs : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "Runs",
                columns: table => new
                {
                    Crossing = table.Column<string>(type: "TEXT", nullable: false),
                    BeganTicks = table.Column<long>(type: "INTEGER", nullable: false),
                    Run = table.Column<string>(type: "TEXT", nullable: false),
                    Open = table.Column<bool>(type: "INTEGER", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Runs", x => new { x.Crossing, x.BeganTicks });
                });

            migrationBuilder.CreateIndex(
                name: "IX_Runs_BeganTicks",
                table: "Runs",
                column: "BeganTicks");
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "Runs");
        }
    }
}
