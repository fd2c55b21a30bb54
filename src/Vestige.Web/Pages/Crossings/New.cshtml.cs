using System.Globalization;
using Microsoft.AspNetCore.Mvc;
using Microsoft.AspNetCore.Mvc.ModelBinding;
using Microsoft.AspNetCore.Mvc.RazorPages;
using Vestige.Core.Crossings;
using Vestige.Core.Treatments;
using Vestige.Engine.Commands;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Web.Api;
using Vestige.Web.Connections;
using Vestige.Web.Definitions;
using Vestige.Web.Treating;
using Vestige.Web.Views;

namespace Vestige.Web.Pages.Crossings;

/// <summary>What exactly will happen if I start this? Choices at the left, the consequence at the right.</summary>
public class NewModel(
    CrossingEngine engine,
    ConnectionDirectory connections,
    Catalogues catalogues,
    RowSamples samples,
    SentForms forms
) : PageModel
{
    private const int ListedAtMost = 200;
    private const int TriedAtMost = 50;
    private const int LongestQuery = 6000;
    private const string TokenField = "__RequestVerificationToken";

    /// <summary>The values of a row that was typed in: they may be a person's, and have no place in an address.</summary>
    private const string TypedRowField = "typed";

    [BindProperty(SupportsGet = true, Name = "")]
    public NewCrossingForm Form { get; set; } = new();

    /// <summary>The connections that crossings can read.</summary>
    public IReadOnlyList<ConnectionDefinition> Sources => connections.Able(Capability.Source);

    /// <summary>The connections that crossings can write.</summary>
    public IReadOnlyList<ConnectionDefinition> Targets => connections.Able(Capability.Target);

    /// <summary>Whether there are two for a crossing.</summary>
    public bool IsPossible => Sources.Any(source => Targets.Any(target => target.Name != source.Name));

    public IReadOnlyList<TableDescription> There { get; private set; } = [];

    /// <summary>The source's tables that would cross.</summary>
    public IReadOnlyList<TableDescription> Crossing { get; private set; } = [];

    /// <summary>The tables to choose from, as far as they are shown.</summary>
    public IReadOnlyList<ListedTable> Listed { get; private set; } = [];

    /// <summary>How many match what the list is narrowed to, and how many of the source's are taken and can cross.</summary>
    public (int Found, int Taken) Counts { get; private set; }

    public TreatmentText Treatment { get; private set; } = TreatmentText.Read(null);

    public IReadOnlyList<DefinitionProblem> Problems { get; private set; } = [];

    /// <summary>What is wrong with the treatment's text, by its line and column.</summary>
    public IReadOnlyList<LocatedProblem> Misread { get; private set; } = [];

    /// <summary>Some rows before and after; null when no table is chosen, or it cannot be treated.</summary>
    public BeforeAfter? Sample { get; private set; }

    /// <summary>What becomes of the rows of that table; null when it cannot be treated.</summary>
    public TableTreatment? Treated { get; private set; }

    /// <summary>The fields for the rows of that table; null where its steps say what fields cannot.</summary>
    public TableChoicesForm? Choices { get; private set; }

    /// <summary>The columns before the choices take effect.</summary>
    public IReadOnlyList<TreatedColumn> ChoiceColumns { get; private set; } = [];

    /// <summary>One of <see cref="ChoiceColumns"/>, by its name.</summary>
    public TreatedColumn ChoiceColumn(string? name) => ChoiceColumns.First(column => column.Name == name);

    /// <summary>Whether a part of the page was asked for, not the whole.</summary>
    public bool IsPart { get; private set; }

    /// <summary>Whether fields were changed and the steps' text with them.</summary>
    public bool IsTextChanged { get; private set; }

    /// <summary>Whether "inserts only" was ticked or unticked.</summary>
    public bool IsInsertsChanged { get; private set; }

    /// <summary>The definition as a file.</summary>
    public string Document { get; private set; } = "";

    public CrossingPlan? Plan { get; private set; }

    /// <summary>Why the source's tables or the plan cannot be shown; null when they can.</summary>
    public string? Failure { get; private set; }

    /// <summary>Problems are shown once a person has said something.</summary>
    public bool Touched { get; private set; }

    /// <summary>The page, as far as it was filled in.</summary>
    /// <param name="part">The part that is asked for; null for the whole.</param>
    /// <param name="tried">Whether it was sent and something was wrong.</param>
    /// <param name="sent">Fields too long for an address, by the name under which they are kept; null for none.</param>
    /// <param name="start">Whether it was sent to be started.</param>
    /// <param name="typedName">What was typed to agree to a loss.</param>
    /// <param name="cancellation">Gives up.</param>
    public async Task<IActionResult> OnGetAsync(
        string? part,
        bool tried,
        string? sent,
        bool start,
        string? typedName,
        CancellationToken cancellation
    )
    {
        if (forms.Find<SentCrossing>(sent, this) is { } kept)
        {
            var fields = new QueryStringValueProvider(BindingSource.Query, kept.Fields, CultureInfo.InvariantCulture);
            await TryUpdateModelAsync(Form, "", fields);
            Plan = kept.TakePlan();
        }

        Touched = tried || part is not null;
        var page = await PartAsync(part, cancellation);
        if (tried)
        {
            JudgeLoss(start, typedName);
        }

        return page;
    }

    private async Task<IActionResult> PartAsync(string? part, CancellationToken cancellation)
    {
        IsPart = part is not null;
        var withSample = part is null or "sample" or "choices";
        var withPlan = part is not ("tables" or "sample" or "choices");
        await ShowAsync(withPlan && Plan is null, withSample, cancellation);
        return part switch
        {
            "statements" when Plan is { } plan => File(
                StatementsFile.Of(string.IsNullOrEmpty(Form.Name) ? "new" : Form.Name, Form.Target!, plan),
                StatementsFile.Type,
                $"{(string.IsNullOrEmpty(Form.Name) ? "new" : Form.Name)}.sql"
            ),
            "consequence" => Partial("Crossings/_Consequence", this),
            "tables" => Partial("Crossings/_PickTables", this),
            "sample" or "choices" => Partial("Crossings/_TreatmentSample", this),
            _ => Page(),
        };
    }

    /// <summary>What is chosen so far, however many tables are ticked: in the body, where the form's token is, too.</summary>
    public async Task<IActionResult> OnPostShowAsync(string? part, CancellationToken cancellation)
    {
        Touched = true;
        return await PartAsync(part, cancellation);
    }

    public async Task<IActionResult> OnPostAsync(bool start, string? typedName, CancellationToken cancellation)
    {
        Touched = true;
        await ShowAsync(withPlan: start, withSample: true, cancellation);
        JudgeLoss(start, typedName);
        if (Problems.Count > 0 || Misread.Count > 0 || Failure is not null || (start && Plan?.Ready != true))
        {
            return Again();
        }

        var definition = Form.Definition(There, Treatment);
        await engine.DefineAsync(definition, Who.Of(HttpContext), cancellation);
        try
        {
            if (start)
            {
                await engine.RunAsync(definition.Name, Who.Of(HttpContext), cancellation, typedName);
            }

            TempData["Done"] = start ? "Started." : "Saved as a draft. Nothing has been read or written.";
        }
        catch (Exception exception) when (exception is NotReadyException or RequestRefusedException or PortException)
        {
            TempData["Refused"] = exception.Message;
        }

        return Redirect($"/crossings/{definition.Name}");
    }

    /// <summary>
    /// The page again with what was sent, which goes into the address, so that Back never asks to send it once more. What is too long for
    /// an address is kept for a while.
    /// </summary>
    private RedirectResult Again()
    {
        var fields = Request
            .Form.Where(field => field.Key is not (TokenField or TypedRowField))
            .ToDictionary(field => field.Key, field => field.Value);
        var query = QueryString.Create(fields).Add("tried", "true");
        if (query.Value!.Length > LongestQuery)
        {
            var kept = forms.Keep(new SentCrossing(new QueryCollection(fields), Plan), query.Value.Length);
            query = QueryString
                .Create(fields.Where(field => field.Key is "start" or "typedName"))
                .Add("tried", "true")
                .Add(SentForms.Field, kept);
        }

        return Redirect($"/crossings/new{query}");
    }

    /// <summary>A start that destroys something waits for the crossing's name.</summary>
    private void JudgeLoss(bool start, string? typedName)
    {
        if (start && Plan is { Ready: true, Losses.Count: > 0 } && typedName != Form.Name)
        {
            Problems =
            [
                .. Problems,
                new DefinitionProblem(
                    "name typed",
                    string.IsNullOrEmpty(typedName)
                        ? "there is none, and a start destroys what the target has"
                        : $"'{typedName}' is not the crossing's name",
                    "Type the crossing's name in the plan to agree, or choose otherwise what existing rows mean."
                ),
            ];
        }
    }

    private async Task ShowAsync(bool withPlan, bool withSample, CancellationToken cancellation)
    {
        // What is a source already is one more likely than a copy.
        var used = engine.Statuses.Select(status => status.Definition.Source).ToHashSet();
        Form.Source ??= Sources.OrderByDescending(source => used.Contains(source.Name)).FirstOrDefault()?.Name;
        Form.Target ??= Targets.FirstOrDefault(target => target.Name != Form.Source)?.Name;
        Treatment = TreatmentText.Read(Form.Treatment);
        Misread = Treatment.Problems;
        try
        {
            if (Form.Source is not null && connections.Find(Form.Source) is not null)
            {
                There = await catalogues.OfAsync(Form.Source, anew: !Touched, cancellation);
            }

            IsInsertsChanged = Form.TakeInserts();
            TakeChoices();
            var definition = Form.Definition(There, Treatment);
            Document = DefinitionYaml.Write(definition);
            Crossing = [.. There.Where(table => definition.Tables.Takes(table.Schema.Name) && Form.Crosses(table))];
            List();
            Problems =
            [
                .. CrossingApi
                    .Check(definition, connections)
                    .Concat(NameTaken())
                    .Concat(
                        StructureText
                            .Read(Form.Structure)
                            .Problems.Select(placed =>
                                placed.Problem with
                                {
                                    Field = placed.Place is { } at
                                        ? $"own statements, line {at.Line}, column {at.Column}"
                                        : placed.Problem.Field,
                                }
                            )
                    ),
            ];
            var known = connections.Find(definition.Source) is not null && connections.Find(definition.Target) is not null;
            if (withSample && known)
            {
                await TryTreatmentAsync(definition, cancellation);
            }

            if (withPlan && known && Problems.All(problem => problem.Field == "name") && Misread.Count == 0)
            {
                Plan = await engine.PlanAsync(definition with { Name = string.IsNullOrEmpty(Form.Name) ? "new" : Form.Name }, cancellation);
            }
        }
        catch (PortException exception)
        {
            Failure = $"{exception.Message} {exception.Remedy}";
        }
        catch (RequestRefusedException exception)
        {
            Failure = $"{exception.Message} {exception.Remedy}";
        }
    }

    private void List()
    {
        var find = Form.Find?.Trim() ?? "";
        var hand = Form.ByHand();
        var rules = new TableRules([.. RulesText.Read(Form.Rules), .. hand]);
        var byHand = hand.ToHashSet();
        var found = There
            .Where(table => find.Length == 0 || table.Schema.Name.ToString().Contains(find, StringComparison.OrdinalIgnoreCase))
            .ToList();
        Listed =
        [
            .. found
                .Take(ListedAtMost)
                .Select(table =>
                {
                    var rule = rules.DecidingRule(table.Schema.Name);
                    var words =
                        rule is null ? null
                        : byHand.Contains(rule) ? "by hand"
                        : RulesText.Line(rule);
                    return new ListedTable(table, rule?.Take is not null, Form.Crosses(table), words);
                }),
        ];
        Counts = (found.Count, Crossing.Count);
    }

    /// <summary>The treatment of the chosen table on some of its rows, without a plan, so that it follows what is typed.</summary>
    private async Task TryTreatmentAsync(CrossingDefinition definition, CancellationToken cancellation)
    {
        var chosen = Crossing.FirstOrDefault(table => table.Schema.Name.ToString() == Form.Sample)
            ?? Treatment
                .Steps.Select(step => Crossing.FirstOrDefault(table => TablePattern.Matches(step.Tables, table.Schema.Name.ToString())))
                .FirstOrDefault(table => table is not null)
            ?? (Crossing.Count > 0 ? Crossing[0] : null);
        Form.Sample = chosen?.Schema.Name.ToString();
        if (chosen is null || Misread.Count > 0)
        {
            return;
        }

        DrawChoices(chosen);

        var treating = engine.TreatmentOf(definition);
        Misread =
        [
            .. TreatedFirst()
                .SelectMany(table => treating.TryBuild(table.Schema).Problems)
                .DistinctBy(problem => (problem.Field, problem.Found))
                .Select(Treatment.Placed),
        ];
        if (treating.TryBuild(chosen.Schema).Treatment is { } treatment)
        {
            Treated = treatment;
            Sample = await samples.OfAsync(Form.Source!, treatment, Form.Typed, cancellation);
        }
    }

    /// <summary>Writes what was changed in the fields for a table into the steps' text.</summary>
    private void TakeChoices()
    {
        var table = There.FirstOrDefault(table => table.Schema.Name.ToString() == Form.Choices.Table);
        if (
            !Form.Choices.IsChanged
            || Misread.Count > 0
            || table is null
            || ChoiceSteps.Of(Treatment.Steps, Form.Choices.Table!) is not { } steps
        )
        {
            return;
        }

        if (steps.Read([.. ColumnsAfter(steps.Before, table).Select(column => column.Name)]) is { } before)
        {
            Form.Treatment = Treatment.With(steps.With(Form.Choices.Choices(before)));
            Treatment = TreatmentText.Read(Form.Treatment);
            Misread = Treatment.Problems;
            IsTextChanged = true;
        }
    }

    private void DrawChoices(TableDescription table)
    {
        var name = table.Schema.Name.ToString();
        if (ChoiceSteps.Of(Treatment.Steps, name) is { } steps)
        {
            ChoiceColumns = ColumnsAfter(steps.Before, table);
            Choices = steps.Read([.. ChoiceColumns.Select(column => column.Name)]) is { Columns.Count: > 0 } said
                ? TableChoicesForm.Of(name, said, Form.Choices.Table == name ? Form.Choices.Find : null)
                : null;
        }
    }

    /// <summary>A table's columns after some steps, and before names are given on the target; empty where the steps are wrong.</summary>
    private IReadOnlyList<TreatedColumn> ColumnsAfter(IReadOnlyList<TreatmentStep> steps, TableDescription table)
    {
        if (connections.Find(Form.Source ?? "") is null || connections.Find(Form.Target ?? "") is null)
        {
            return [];
        }

        var plain = Form.Definition(There, Treatment) with { Treatment = steps, Naming = null, Apply = null };
        return engine.TreatmentOf(plain).TryBuild(table.Schema).Treatment?.Columns ?? [];
    }

    /// <summary>The tables that steps are for, enough of them to find what is wrong; the plan looks at all.</summary>
    private IEnumerable<TableDescription> TreatedFirst() =>
        Treatment
            .Steps.SelectMany(step =>
                Crossing.Where(table => TablePattern.Matches(step.Tables, table.Schema.Name.ToString())).Take(TriedAtMost)
            )
            .DistinctBy(table => table.Schema.Name);

    private IEnumerable<DefinitionProblem> NameTaken() =>
        !string.IsNullOrEmpty(Form.Name) && engine.Status(Form.Name) is not null
            ? [new DefinitionProblem("name", $"there is a crossing {Form.Name} already", "Choose another name.")]
            : [];
}
