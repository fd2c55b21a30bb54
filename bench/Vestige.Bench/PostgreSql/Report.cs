namespace Vestige.Bench.PostgreSql;

/// <summary>Prints a figure, its baseline and their ratio.</summary>
internal static class Report
{
    public static void Ratio(string what, double ours, double baseline, string name, double asked) =>
        Console.WriteLine(
            $"{what,-48} {ours,10:0}   {name} {baseline,10:0}   ratio {ours / baseline:0.00}  (asked: at least {asked:0.00})"
        );

    public static void Most(string what, double ours, double baseline, string name, double asked) =>
        Console.WriteLine(
            $"{what,-48} {ours,10:0.00}   {name} {baseline,10:0.00}   ratio {ours / baseline:0.00}  (asked: at most {asked:0.00})"
        );
}
