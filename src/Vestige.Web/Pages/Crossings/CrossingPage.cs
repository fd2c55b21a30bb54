using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Core.Crossings;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.Text;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Measuring;
using Vestige.Web.Api;
using Vestige.Web.Connections;
using Vestige.Web.Views;

namespace Vestige.Web.Pages.Crossings;

/// <summary>What the pages of one crossing share.</summary>
public abstract class CrossingPage(CrossingEngine engine, ConnectionDirectory connections, TimeProvider clock) : PageModel
{
    /// <summary>Set by <see cref="Find"/> before a page is shown.</summary>
    public CrossingStatus Status { get; private set; } = null!;

    /// <summary>Which of the crossing's views this is.</summary>
    public abstract string View { get; }

    /// <summary>The tables that a list of them shows.</summary>
    public virtual IReadOnlyList<TableStatus> ListedTables => Status.Tables;

    /// <summary>Rows at the source and on the target of those that are listed; null where the list shows none.</summary>
    public virtual IReadOnlyDictionary<TableName, (RowCount? Source, RowCount? Target)>? Counts => null;

    /// <summary>Whether a worker is at it, so that it can be stopped.</summary>
    public bool IsAtWork =>
        Status.State is CrossingState.Checking or CrossingState.Loading or CrossingState.CatchingUp or CrossingState.Following;

    public DateTimeOffset Now => clock.GetUtcNow();

    public string By => Who.Of(HttpContext);

    protected CrossingEngine Engine => engine;

    protected TimeProvider Clock => clock;

    protected ConnectionDirectory Connections => connections;

    /// <summary>A position in the source's notation, grouped for reading; a dash for none.</summary>
    public string Position(LogPosition? position)
    {
        if (position is null)
        {
            return "–";
        }

        var text = CrossingApi.FormatOf(Status, connections)(position.Value);
        return long.TryParse(text, out var number) ? Figures.Count(number) : text;
    }

    /// <summary>A position in the notation of the crossing's source; null when the text is none, or there is no such crossing.</summary>
    protected LogPosition? ParsePosition(string name, string text) =>
        Find(name) ? Engine.Positions.Parse(Status.Definition.Source, text) : null;

    /// <summary>Whether there is such a crossing; takes its status.</summary>
    protected bool Find(string name)
    {
        Status = engine.Status(name)!;
        return Status is not null;
    }

    /// <summary>
    /// Does what was asked and goes back to the page with what came of it. Lets <see cref="LossRefusedException"/> through.
    /// </summary>
    protected async Task<IActionResult> DoAsync(string back, string done, Func<Task> request)
    {
        ArgumentNullException.ThrowIfNull(request);
        try
        {
            // What was typed and cannot be read is not what was left empty.
            if (
                ModelState.FirstOrDefault(field => field.Value is { Errors.Count: > 0, AttemptedValue.Length: > 0 }) is
                { Key: { } name, Value: { } wrong }
            )
            {
                throw new RequestRefusedException($"{name}: '{wrong.AttemptedValue}' cannot be read.")
                {
                    Remedy = "Write a number as 12 or 0.5.",
                };
            }

            await request();
            TempData["Done"] = done;
        }
        catch (NotReadyException exception)
        {
            TempData["Refused"] = exception.Message;
        }
        catch (RequestRefusedException exception) when (exception is not LossRefusedException)
        {
            TempData["Refused"] = $"{exception.Message} {exception.Remedy}";
        }
        catch (PortException exception)
        {
            TempData["Refused"] = $"{exception.Message} {exception.Remedy}";
        }

        return Redirect(back);
    }
}
