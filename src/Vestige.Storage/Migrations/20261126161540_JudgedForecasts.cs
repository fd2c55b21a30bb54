using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Vestige.Storage.Migrations
{
    /// <inheritdoc />
    public partial class JudgedForecasts : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "JudgedForecasts",
                columns: table => new
                {
                    Crossing = table.Column<string>(type: "TEXT", nullable: false),
                    Kind = table.Column<string>(type: "TEXT", nullable: false),
                    Judged = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_JudgedForecasts", x => new { x.Crossing, x.Kind });
                });
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "JudgedForecasts");
        }
    }
}
