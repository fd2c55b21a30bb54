using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Vestige.Storage.Migrations
{
    /// <inheritdoc />
    public partial class KeptProgress : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "Progress",
                columns: table => new
                {
                    Crossing = table.Column<string>(type: "TEXT", nullable: false),
                    Term = table.Column<long>(type: "INTEGER", nullable: false),
                    Server = table.Column<string>(type: "TEXT", nullable: true),
                    Timeline = table.Column<long>(type: "INTEGER", nullable: true),
                    Offset = table.Column<long>(type: "INTEGER", nullable: true),
                    Token = table.Column<string>(type: "TEXT", nullable: true),
                    Tables = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Progress", x => x.Crossing);
                });
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "Progress");
        }
    }
}
