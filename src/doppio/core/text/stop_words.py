"""Words so common that they tell chunks apart no more, by language."""

_LISTS = {
    "en": """a about above after again all also am an and any are as at be been before being below between both
    but by can could did do does doing down during each few for from further had has have having he her
    here hers him his how i if in into is it its itself just may me might more most must my no nor not
    of off on once only or other our out over own same shall she should so some such than that the their
    them then there these they this those through to too under until up very was we were what when where
    which while who whom why will with would you your""",
    "de": """aber alle als also am an auch auf aus bei beim bin bis bist da damit dann das dass dein dem den der
    des die dies diese dieser dieses doch dort du durch ein eine einem einen einer eines er es euch euer
    für hat hatte hier ich ihr ihre im in ist ja jede jeder jedes kann kein keine können man mein mit
    muss nach nicht noch nun nur ob oder ohne sehr sein seine sich sie sind so soll über um und uns
    unser unter vom von vor war waren was weil wenn wer werden wie wieder wir wird wo zu zum zur""",
    "fr": """a ai alors au aucun aussi autre aux avant avec avoir c ce cela ces cet cette comme d dans de des
    donc du elle elles en entre est et eu il ils j je l la le les leur leurs lui m ma mais me même mes
    mon n ne nos notre nous on ont ou où par pas peut plus pour qu quand que quel quelle qui s sa sans
    se ses si son sont sur t ta te tes ton tous tout très tu un une vos votre vous y à été être""",
    "es": """a al algo ante antes como con contra cual cuando de del desde donde dos e el ella ellas ellos en
    entre era es esa ese eso esta este esto están está fue ha han hasta hay la las le les lo los más me
    mi mis muy nada ni no nos o para pero por porque que qué quien se ser si sin sobre son su sus
    también te tiene todo todos tu un una unas uno unos y ya yo""",
    "it": """a ad al alla alle anche ancora c che chi ci come con cui d da dal dalla de degli dei del della delle
    di dove e ed era essere fra gli ha hanno ho i il in io l la le lei li lo loro lui ma mi mia mio ne
    nei nel nella noi non o ogni per perché più quale quando quella quello questa questo se si sia sono
    su sua sue sui sul sulla suo ti tra tu tutti tutto un una uno vi voi è""",
    "pt": """a ao aos as até com como da das de dela dele do dos e ela ele eles em entre era essa esse esta este
    eu foi há isso isto já lhe mais mas me mesmo meu minha muito na nas nem no nos não nós o os ou para
    pela pelo por qual quando que quem se sem ser seu sua são só também te tem tu um uma você é""",
    "nl": """aan al alle als altijd andere ben bij daar dan dat de der deze die dit doch doen door dus een en er
    ge geen had heb hebben heeft hem het hier hij hoe hun iemand iets ik in is ja je kan kon maar me
    meer men met mij mijn moet na naar niet niets nog nu of om omdat ons ook op over reeds te tegen toch
    toen tot u uit uw van veel voor want waren was wat we wel werd wie wil worden zal ze zei zich zij
    zijn zo zonder zou""",
    "sv": """alla att av bara blev bli blir de dem den denna det detta dig din du där efter ej eller en er ett
    för från ha hade han har hon hur här i icke inte ja jag kan man med men mig min mot mycket ni nu när
    någon något och om oss på samma sedan sig sin som så till under upp ut vad var vara vi vid vilken är
    åt över""",
    "da": """af alle anden at blev blive da de dem den denne der deres det dette dig din disse du efter eller en
    end er et for fra ham han har havde hun hvad hvis hvor i ikke ind jeg jo kan kunne man med meget men
    mig min mod ned noget nogle nu når og også om op os over på selv sig sin skal som til ud under var
    ved vi vil vor være""",
    "no": """alle at av ble bli både da de den denne der dere det dette din du eller en er et etter for fra ha
    hadde han har hun hva hvis hvor hvordan i ikke inn jeg kan kom man med meg men min mot ned noe noen
    nå når og også om opp oss over på seg selv si sin skal som så til ut var ved vi vil være å""",
    "fi": """ei eivät en et että hän he ja jo joka jos joten kaikki kanssa kuin kun me mikä minä mitä mukaan
    mutta myös ne niin nuo nyt olen oli olla on ovat se sekä sen siellä sinä tai te tämä tässä vaan vain
    vielä voi""",
    "ru": """а без бы был была были было быть в вам вас во вот все всё вы где да для до его ее её если есть еще
    ещё же за и из или им их к как ко когда кто ли мне можно мы на над нам нас не него нее нет ни но ну
    о об он она они оно от по под при с со так также там то того только ты у уже чего чем что чтобы эта
    эти это этот я""",
}
STOP_WORDS = {language: frozenset(words.split()) for language, words in _LISTS.items()}
