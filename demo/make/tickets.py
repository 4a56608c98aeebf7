"""Write the demo's fault tickets as JSONL: one object a line, from the rows below.

.venv/bin/python demo/make/tickets.py
"""

# ruff: noqa: E501
import json
from pathlib import Path

TARGET = Path(__file__).resolve().parent.parent / "documents" / "logs" / "fault-tickets.jsonl"
# Number, day, line, minutes of standstill, title, what was seen and found, what was done, page of the manual.
ROWS = """
FT-2101|2025-11-24|B|0|Door of cabin 17 opens late|In the top station the door of cabin 17 opens a good two metres later than all others, and guests lean against it. The lever over the rail is straight. Under the cover of the lock the spring has jumped off its hook, so that the door is held only by friction until the rail has pushed it all the way.|Spring hooked in again and secured with wire. Closing force measured: 134 newtons.|11
FT-2102|2025-11-26|C|4|Chair 41 creaks at every tower|Guests complain of a loud creaking from chair 41 at every tower, so loud that one of them wanted to get off. The patrol heard it from the piste as well. The rubber between hanger and seat frame is split on its lower side, and steel rubs on steel whenever the chair tips.|Rubber replaced on chair 41 and, since they are equally old, on 40 and 42.|
FT-2103|2025-11-29|B|6|E-231 three times in the bottom station|The panel shows E-231 at 9:12, 9:31 and 9:50, always with another cabin. Each time the grip was found closed. The reading of the proximity switch jumps when somebody leans on the cable duct; inside of the duct a plug is green with verdigris.|Plug cut off and replaced by a clamp. Switch distance set again to 5 millimetres.|14
FT-2104|2025-12-01|A|0|White lamp 17 every morning|Lamp 17 is lit each morning after the first ride, and never again during the day. Nights have been below minus 15. The counter of cabin 2 is two and a half metres behind because its wheel slips on frost for the first hundred metres.|New ring on the wheel of the counter, heating cable laid beside it. Lamp has stayed dark since.|
FT-2105|2025-12-03|D|11|Hood of chair 8 does not stay up|The hood of chair 8 falls shut after the guests have got off and hits the next ones on the helmet while they are loading. The gas spring on the left side is empty. The one on the right alone cannot hold the hood against wind from behind.|Both gas springs replaced. Attendants told to hold hoods by hand in south wind.|
FT-2106|2025-12-04|B|0|Smell of burning in the drive room|The machinist smells burning rubber at 7:05, before opening. No lamp is lit, nothing is hot to the touch. A mouse has built its nest on the belt guard of the ventilator; the belt has scorched the straw but there was no flame.|Nest taken out, belt guard closed with mesh, two traps set. Engineer looked at the belt: usable.|
FT-2107|2025-12-06|B|19|Line stands, E-420|Line stops by itself with E-420, pressure of the tension cylinder 78 bar. The pump runs without pause and cannot raise it. A fitting at the foot of the cylinder had worked loose and oil stood in the pit to the height of a hand.|Fitting tightened, 24 litres of oil filled in, pit pumped dry. Pump now starts four times an hour.|13
FT-2108|2025-12-08|A|2|Cabin 1 will not say that its door is shut|RUN does not light up although the attendant of cabin 1 has turned the key fully. A coin of 2 crowns lies in the lower rail of the door, which therefore stays open by a finger's breadth. The attendant could see no gap from inside.|Coin removed and handed in as lost property. Rail is now swept before each ride.|
FT-2109|2025-12-10|B|0|Window of cabin 52 rattles|Guests stuffed a glove into the window frame of cabin 52 because it rattles. Pressed from inside it moves by four millimetres. The seal has shrunk at both lower corners and lets in snow.|New seal. Cabins of the same year of make, 49 to 56, are put on the list for May.|11
FT-2110|2025-12-12|D|33|Rope out of the groove at D5|In the storm the panel showed E-204 for tower D5 and the line stood. The rope lay in the catcher on the outer side for the length of two sheaves. Wind at the tower had been 21 metres a second, and a branch lay on the walkway.|Line emptied with the auxiliary drive, rope lifted back with the winch, both rods replaced, alignment measured.|9
FT-2111|2025-12-13|B|0|Announcement cannot be understood in cabins 30 to 38|Guests in cabins 30 to 38 could not understand a word of the announcement during the standstill at noon. In these cabins the loudspeaker is of the older make, and moisture has softened the cone.|Loudspeakers replaced by the newer make in all nine cabins.|
FT-2112|2025-12-15|C|0|Counter at the turnstile counts twice|The turnstile of line C counted 4,114 rides until noon, more than twice as many as can be. Each person was counted when entering and again when the arm swung back. The brake of the arm was dry and let it bounce.|Brake adjusted. Counts of 14 and 15 December struck from the statistics.|
FT-2113|2025-12-17|B|7|Strap in door, cabin 66|E-220 at cabin 66, a rucksack strap of a child was caught in the door and reached to the floor outside. The attendant had pointed at the strap, and the child had pulled it in and let it out again.|Freed by hand. No damage. Mirror at the bottom station proposed.|
FT-2114|2025-12-18|A|0|Ice falls from the support onto the car park|A piece of ice as long as an arm fell from the middle support of line A onto the edge of the car park beside the road. Nobody was there. The gutter that should lead meltwater away from the walkway is torn off.|Four parking places closed with poles, gutter mended with strap iron until May.|
FT-2115|2025-12-20|B|0|Key of the garage broken|The square key broke off in the lock of the garage gate in frost. The six cabins that hang outside for the night could not be put in.|Key stub drilled out, lock greased, new key cut. Thirty-one keys are complete again.|11
FT-2116|2025-12-21|D|14|Chairs too close together|Two chairs left the bottom station of line D only nine metres apart, and the control stopped the line. The clutch of the third wheel in the spacing conveyor slips when it is wet with snow thrown by the guests' skis.|Wheel dried and roughened with emery cloth. Sheet of rubber hung up as a shield against snow.|
FT-2117|2025-12-23|B|0|Diesel of the auxiliary drive smokes|At the Monday test the diesel smoked white for ten minutes and ran unevenly. Outside temperature minus 18. Glow plugs two and three have no current because the common fuse has blown.|Fuse replaced, plugs measured, all four in order. Test repeated under load without smoke.|13
FT-2118|2025-12-27|B|3|Guest pulled the cord|The platform cord was pulled at the top station by a guest whose hat had fallen onto the track. E-104, stop. The hat was fetched after the machinist had locked the line.|Explained to the guest. Sign with a picture is to be put up beside the cord.|
FT-2119|2025-12-28|A|0|Queue rail bent|The rail that leads the queue at Tarn Street has been pressed out of shape over three metres by the crowd of the morning. One post has come out of the ground.|Post set in concrete at night. Second row of rails hired until 6 January.|
FT-2120|2025-12-30|C|9|Loading mat stands still|The loading mat of line C runs at half its speed and then stops, with E-117. Under the mat lies a cake of packed snow and grit that has pressed it against the frame.|Mat lifted, cake chopped out, a brush put in front of it. Cleaned each noon from now on.|
FT-2121|2026-01-02|B|0|Heating of wind gauge B9 too weak|The gauge on tower B9 shows 6 metres a second, its neighbours 11 and 12. The current of its heating is 41 watts and should be 80. The cup was full of rime although the display looked healthy.|Gauge exchanged for the spare one, factor of calibration entered in KB-3. Old one sent to its maker.|15
FT-2122|2026-01-04|D|0|Footrest of chair 23 hangs|The footrest on the right of chair 23 hangs by one bolt. The nut of the other one lay in the snow below D4. It is of the kind without a plastic ring.|Bolted on again with a locking nut; all chairs looked at in the evening, eleven further nuts replaced.|
FT-2123|2026-01-05|B|26|Safety circuit open, no code|Line stops and cannot be reset; the lamp of the safety circuit is dark, yet no code is shown. Measured from KB-2 the circuit has more than 400 ohms. In the connector of B11 there is water, and the seal lies beside it.|Connector dried, packed with grease, new seal. Resistance 43 ohms. Same work done at B7 as a precaution.|14
FT-2124|2026-01-07|A|0|Light in the lower deck|Half of the lamps in the lower deck of cabin 2 flicker. Guests film it. The transformer is loose on its rail and gets no proper contact when the cabin sways.|Screwed down. Two tubes replaced.|
FT-2125|2026-01-08|B|0|Grip number cannot be read|The number of the grip below cabin 9 cannot be read on the jaw any more, only on the hanger. According to the grip book it could be 27 or 77.|Grip taken off in the evening. By batch mark and scratches it is 27. Number stamped in again by the workshop.|4
FT-2126|2026-01-10|C|2|Child alone on a chair|A child of about seven years sat alone on chair 12 because the father had slipped at the loading mark. Line stopped after five metres, chair run back by hand is not possible, so an attendant rode on the next chair.|Child received at the top. Rule of section 3.2 repeated to all attendants.|
FT-2127|2026-01-12|D|0|Telephone on D9 silent|The telephone on tower D9 gives no tone. The radio works there. Snow has bent the box and the plug has come out.|Box straightened, plug held with a clip. Tone is back.|
FT-2128|2026-01-14|B|0|Broken wire near cabin 40's place|During the magnetic test a broken wire was found outside of the splice, at 1,312 metres from it. One wire, end standing out by two centimetres.|Wire bent off in the groove, place marked with white tape, entered in the rope book. Looked at every week.|6
FT-2129|2026-01-16|B|5|Cabin does not leave the coupling rail|Cabin 33 stands still in the bottom station and the next one pushes it gently. The tyre that should move it has no air: the valve is torn off.|Tyre replaced with one of the four spare ones in the garage. Air pressure of all tyres set to 2.6 bar.|
FT-2130|2026-01-19|A|12|Haul rope low, ice|Orange lamp 9 during the second ride. From the window of the top station the rope was seen to hang three metres lower than usual, white and thick as an arm.|Ride ended slowly, then three empty rides. Ice fell between the road and the Tarn, where nobody was.|
FT-2131|2026-01-21|B|0|Drops of oil on the roofs|Roofs of cabins 5 to 12 bear drops of oil. They do not come from the rope, since they are thin and smell of gear oil. The breather of the gearbox spits when the oil is above its mark.|Two litres of oil let off. Roofs wiped before the first ride.|12
FT-2132|2026-01-23|D|0|Switch cover at D7 lost|The cover of the limit switch on tower D7 is gone and the switch full of snow. It still works when pressed by hand.|New cover fastened with a chain. Switch dried with warm air and sprayed.|
FT-2133|2026-01-25|B|8|Emergency stop by suitcase|A guest's suitcase fell from the platform of the top station onto the emergency mat behind the gate. Line stopped hard; two people sat down on the floor of their cabin.|Nobody hurt. Suitcases are set down behind the yellow line from now on.|
FT-2134|2026-01-27|C|0|Seat heating that is none|Guests ask why seats 14 to 20 of line C are warm. The sun shines onto them in the station through the new window and the black covers heat up to 41 degrees.|Nothing done. Reported for the amusement of the office.|
FT-2135|2026-01-29|B|0|Battery voltage low|The batteries in KB-4 show 23.1 volts after the monthly look without load. A cell in the second row is warm and bulges.|Cell bridged for the weekend, replaced on 2 February. Load test is brought forward to February.|15
FT-2136|2026-02-01|A|0|Straps for the night gone|Two of the eight straps with which cabins are tied in storms were not in their box. They had been lent to the restaurant for a piano.|Straps fetched. The box has a seal now.|
FT-2137|2026-02-03|B|4|Snowboard sticks out of the rack|A board longer than 1.75 metres stuck out of the rack of cabin 61 and touched the station frame. Paint is off over a hand's length, the frame is whole.|Boards of that length ride inside from now on. Note on the door of the bottom station.|
FT-2138|2026-02-05|D|21|Line D slow and then still|Speed fell from 5.0 to 3.1 metres a second without anybody having asked for it, then the line stood. The inverter reports too much heat; the filter mat of its cabinet is grey felt.|Mat washed, spare mat put in. To be looked at every month instead of every year.|
FT-2139|2026-02-07|B|0|Lamp of the service brake dark|The lamp of the service brake was dark with the line running. By the drill the machinist made a stop: the brake closed and opened in order. The lamp itself had burnt out.|Lamp replaced by one with diodes. Both other old lamps too.|
FT-2140|2026-02-09|C|0|Guest stuck with a jacket|The cord of a guest's jacket was wound around the bar of chair 3 and he had to run along for five metres when getting off. The attendant stopped at once.|Cord cut. Guest unhurt, new cord from the lost property.|
FT-2141|2026-02-11|B|0|Knocking in the bottom station|Each time a cabin couples there is a dull knock that was not there last week. Rail joint four has opened by two millimetres in the cold and the rollers strike its edge.|Joint filed and the fishplate tightened. To be welded in May.|
FT-2142|2026-02-12|A|0|Wind shows zero|The wind of the middle tower shows zero and so it does in the afternoon, while flags fly. The bearing of the gauge is full of ice because its heating was switched off with the light.|Heating put on its own fuse, marked red. While it was out the gauge of B4 was read.|
FT-2143|2026-02-14|D|2|Skis crossed on the ramp|Three beginners fell on each other at the top of line D. Line stopped twice within ten minutes. The ramp has a hollow where everybody turns.|Hollow filled and the ramp groomed at noon from now on.|
FT-2144|2026-02-16|B|0|Cabin 20 smells|Cabin 20, which has folding seats for sledges, smells of milk. The milk of Saturday had been spilt under the floor plate.|Floor plate lifted and washed. Restaurant reminded of its agreement.|
FT-2145|2026-02-18|B|13|E-232 after coupling|E-232 in the top station: the second switch of the pair saw the grip 40 milliseconds too late. After the reset it came again after six cabins.|Both switches of the pair replaced together. No fault in 600 cabins since.|14
FT-2146|2026-02-20|C|0|Return sheave hot|At the evening round the bearing of the return sheave of line C was 71 degrees warm, normally 30. Grease that came out was black and gritty.|Bearing flushed and packed anew, temperature next evening 34. Watched daily for two weeks.|
FT-2147|2026-02-22|A|0|Door chime too loud|The houses beside Tarn Street complain of the chime of the doors at seven in the morning.|Volume lowered by half until 8:00, done by the timer of the desk.|
FT-2148|2026-02-24|B|0|Plate missing at tower B8|The plate that says how many rescue sacks are at the tower is missing at B8. There are two sacks as there should be.|Plate made anew in the workshop and riveted.|
FT-2149|2026-02-26|D|6|Hoods iced shut|After freezing rain twelve hoods of line D could not be opened. Chairs were run without guests until they had thawed in the station.|Joints sprayed. In freezing rain hoods are left open at night from now on.|
FT-2150|2026-02-28|B|0|Wide liner worn before its time|A wide liner of the return sheave shows a groove of 7 millimetres after one season. Its neighbour has three. Grit from the platform is blown onto it by the new fan.|Fan turned by ninety degrees. Liner is replaced in May with its pair.|8
FT-2151|2026-03-02|B|0|Radio dead on the lower part|Between B1 and B3 channel 1 cannot be heard since Friday. The aerial on the station roof has been turned by a slide of snow.|Aerial turned back and held with a second wire.|
FT-2152|2026-03-05|A|3|Key box does not open|The box with the key of the desk did not open at 7:30 on the second of March; code of the last quarter was still in use because the new one had been set to April by mistake.|Code set again. First ride was on time by three minutes.|
FT-2153|2026-03-07|C|0|Path to line C is ice|Between the car park and Larch Meadow guests slide on ice where meltwater of the day freezes at night. Two fell.|Gritted at 7 and at 17, drain opened, a rope put up along the steepest part.|
FT-2154|2026-03-10|B|17|Tension carriage beyond its yellow mark|After a week of sun the carriage stood two fingers beyond the rear mark and the machinist would not open. Rope has lengthened with warmth, 11 degrees more than a week ago.|Engineer looked, 46 centimetres to the stop remain, line free. Rope is to be shortened in May.|7
FT-2155|2026-03-12|D|0|Meltwater in switch D11|Dew in the limit switch of D11 in the afternoon, and ice in it in the morning. It sticks for a second when pressed.|Dried, hole drilled at its lowest point so that water runs out.|
FT-2156|2026-03-15|B|0|Ski pole in the drive of the conveyor|A pole thrown into a cabin missed it and went into the belt of the conveyor. The belt has a notch of 4 centimetres at its edge.|Belt cut round so that the notch cannot grow. Replaced in May.|
FT-2157|2026-03-18|A|0|Restaurant lift takes the current of line A|At noon the voltage at the desk of line A falls by 9 volts when the lift of the restaurant starts with its kitchen.|Lift moved to another phase by the electrician. Fall is 2 volts now.|
FT-2158|2026-03-21|B|5|Dog ran onto the track|A dog without a lead jumped through the gate of the bottom station onto the track. Line stopped at once; it was caught with a sausage.|Gate has a lower bar now. Owner paid nothing, dog had no ticket.|
FT-2159|2026-03-24|C|0|Numbers on chairs faded|Numbers of chairs 50 to 70 cannot be read from the loading mark, so that the attendant could not say which chair creaks.|Painted anew with the yellow of the road marks.|
FT-2160|2026-03-27|D|0|Tower D3 leans|Plumb line at D3 shows 2.5 millimetres a metre to the south, 1 more than in autumn. Below it the slope is wet.|Measured each week. Drain dug above the foundation.|10
FT-2161|2026-03-30|B|0|Screws in the floor of cabin 44|Two screw heads stand out of the floor of cabin 44 and tear ski boots. The plate below is swollen.|Plate replaced, rust below it brushed and painted.|11
FT-2162|2026-04-02|B|0|Wrong time on the screen|All codes since Sunday bear a time that is an hour early because the control does not know summer time.|Clock set. Log of the four days corrected by hand with initials.|
FT-2163|2026-04-05|A|0|Water in the pit of the buffer|The pit of the lower buffer at Tarn Street is full of water to the edge, and the oil of the buffer looks milky.|Pumped out. Oil of the buffer replaced before the next ride. Float switch ordered.|
FT-2164|2026-04-08|D|0|Marten in the cable duct|Insulation of three wires between D1 and D2 has been gnawed. No fault yet.|Wires wrapped, duct closed with steel wool, trap set without success.|
FT-2165|2026-04-11|B|9|Hail|Hail of the size of cherries between 14:10 and 14:25. Line slowed, cabins kept closed, two roof lights cracked. On the platform nobody could stand.|Roof lights taped, cabins 3 and 58 taken off until new ones come.|
""".strip()


def main() -> None:
    with TARGET.open("w", encoding="utf-8") as file:
        for row in ROWS.split("\n"):
            number, day, line, minutes, title, seen, done, page = row.split("|")
            ticket = {
                "ticket": number,
                "title": title,
                "seen": seen,
                "done": done,
                "line": line,
                "opened": day,
                "minutes_stopped": int(minutes),
                "link": f"https://tickets.brackenhorn.example/{number}",
            }
            if page:
                ticket["manual_page"] = int(page)
            file.write(json.dumps(ticket, ensure_ascii=False) + "\n")


if __name__ == "__main__":
    main()
