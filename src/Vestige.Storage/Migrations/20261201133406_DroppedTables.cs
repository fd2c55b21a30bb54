using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Vestige.Storage.Migrations
{
    /// <inheritdoc />
    public partial class DroppedTables : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "Undo",
                columns: table => new
                {
                    Id = table.Column<string>(type: "TEXT", nullable: false),
                    AtTicks = table.Column<long>(type: "INTEGER", nullable: false),
                    Entry = table.Column<string>(type: "TEXT", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Undo", x => x.Id);
                });
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "Undo");
        }
    }
}
