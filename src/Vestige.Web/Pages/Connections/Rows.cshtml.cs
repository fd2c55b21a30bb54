using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Core.Changes;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Web.Connections;
using Vestige.Web.Treating;
using Vestige.Web.Views;

namespace Vestige.Web.Pages.Connections;

/// <summary>What is in this table? Some rows of it, read and not kept.</summary>
public class RowsModel(ConnectionDirectory connections, CrossingEngine engine) : PageModel
{
    private const int RowsShown = 20;

    public string Connection { get; private set; } = "";

    public TableDescription Table { get; private set; } = null!;

    public IReadOnlyList<Row> Rows { get; private set; } = [];

    /// <summary>The columns that some crossing of this source masks: of their values type and length are shown.</summary>
    public IReadOnlySet<string> Masked { get; private set; } = new HashSet<string>();

    /// <summary>A value as it may be shown.</summary>
    public string Shown(Row row, int column) =>
        Masked.Contains(Table.Schema.Columns[column].Name)
            ? BeforeAfter.Hidden(row, column, Table.Schema.Columns[column].Type)
            : row.DisplayAt(column);

    /// <summary>Why no rows can be shown; null when they can.</summary>
    public string? Problem { get; private set; }

    public async Task<IActionResult> OnGetAsync(string name, string table, CancellationToken cancellation)
    {
        if (connections.Find(name) is null)
        {
            return NotFound();
        }

        Connection = name;
        var wanted = Addresses.TableFrom(table);
        var source = connections.Source(name);
        try
        {
            var found = (await source.Catalogue.ReadTablesAsync(cancellation)).FirstOrDefault(candidate =>
                candidate.Schema.Name.ToString() == wanted
            );
            if (found is null)
            {
                return NotFound();
            }

            Table = found;
            Masked = engine.Trace.MaskedColumns(name, found.Schema);
            Rows = await source.Lookup.SampleRowsAsync(found.Schema, RowsShown, cancellation);
        }
        catch (PortException exception) when (Table is not null)
        {
            Problem = $"{exception.Message} {exception.Remedy}";
        }
        catch (PortException)
        {
            return RedirectToPage("View", new { name });
        }

        return Page();
    }
}
